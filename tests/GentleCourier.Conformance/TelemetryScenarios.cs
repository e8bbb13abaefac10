using System.Collections.Concurrent;
using System.Diagnostics;
using System.Diagnostics.Metrics;
using GentleCourier.Telemetry;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Conformance;

/// <summary>What OpenTelemetry hears.</summary>
public abstract class TelemetryScenarios<TPlace> where TPlace : Place, new()
{
    private const string Destination = "messaging.destination.name";

    [Fact]
    public async Task One_trace_goes_from_the_request_over_the_outbox_to_the_handler_and_what_it_publishes()
    {
        await using var crossing = new Crossing(new TPlace());
        using var source = new ActivitySource("test");
        using var spans = new Heard();
        var log = new ConcurrentQueue<CourierEvent>();
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, EventScenarios<TPlace>.ChargingReceiver>())
                .Receive("charges", q => q.Handle<Charged, EventScenarios<TPlace>.ChargedReceiver>()),
            services: s => s.AddSingleton(log));
        var harbour = await crossing.StartAsync("harbour");
        Activity request;
        using (request = source.StartActivity("request")!) await harbour.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(
            () => Task.FromResult(spans.Named("settle charges").Any(s => s.IsLinkedTo(request))), "all is over");

        var made = spans.One("create test.tap", request);
        Assert.Equal(request.SpanId, made.ParentSpanId);
        Assert.Equal(ActivityKind.Producer, made.Kind);
        var handled = spans.One("process taps", request);
        Assert.Equal(made.SpanId, handled.ParentSpanId);
        var further = spans.One("create test.charged", request);
        Assert.Equal(handled.SpanId, further.ParentSpanId);
        Assert.Equal(further.SpanId, spans.One("process charges", request).ParentSpanId);
        foreach (var name in new[] { "receive taps", "settle taps", "receive charges" })
            Assert.Contains(spans.Named(name), s => s.IsLinkedTo(request));
        Assert.Equal(
            ("gentle_courier", "process", "process", "taps", log.Single().CausationId),
            ((string?)handled.GetTagItem("messaging.system"), (string?)handled.GetTagItem("messaging.operation.name"),
                (string?)handled.GetTagItem("messaging.operation.type"),
                (string?)handled.GetTagItem("messaging.destination.name"),
                (string?)handled.GetTagItem("messaging.message.id")));
    }

    [Fact]
    public async Task What_cannot_be_published_is_a_span_that_failed()
    {
        await using var crossing = new Crossing(new TPlace());
        using var source = new ActivitySource("test");
        using var spans = new Heard();
        var harbour = await crossing.StartAsync("harbour");
        var outbox = harbour.Services.GetRequiredService<IOutbox>();
        using var request = source.StartActivity("request")!;
        await Assert.ThrowsAsync<ContractException>(() => outbox.AddAloneAsync(new Tap(1), new() { Id = "" }));

        var made = spans.One("create test.tap", request);
        Assert.Equal(
            (ActivityStatusCode.Error, "GentleCourier.ContractException"),
            (made.Status, (string?)made.GetTagItem("error.type")));
    }

    [Fact]
    public async Task What_cannot_be_relayed_or_settled_is_a_span_that_failed_and_then_one_that_did_not()
    {
        await using var crossing = new Crossing(new TPlace());
        using var source = new ActivitySource("test");
        using var spans = new Heard();
        var (sends, settles) = (1, 1);
        crossing.Engine = new TroubledEngine(crossing.Engine)
        {
            Before = call =>
            {
                if (call == "PublishAsync" && Interlocked.Decrement(ref sends) == 0
                    || call == "SettleAsync" && Interlocked.Decrement(ref settles) == 0)
                    throw new CourierException("the line is dead") { IsTransient = true };
            },
        };
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(new Log()));
        var harbour = await crossing.StartAsync("harbour");
        Activity request;
        using (request = source.StartActivity("request")!) await harbour.PublishAsync(new Tap(1));

        foreach (var name in new[] { "send test.tap", "settle taps" })
        {
            await Crossing.UntilAsync(
                () => Task.FromResult(Of(name).Any(s => s.Status == ActivityStatusCode.Unset)), $"{name} succeeds");
            var failed = Of(name).First();
            Assert.Equal(
                (ActivityStatusCode.Error, "the line is dead", "GentleCourier.CourierException"),
                (failed.Status, failed.StatusDescription, (string?)failed.GetTagItem("error.type")));
        }

        IEnumerable<Activity> Of(string name) =>
            spans.Named(name).Where(s => s.IsLinkedTo(request)).Select(s => s.Activity);
    }

    [Fact]
    public async Task What_is_done_is_counted_and_measured_and_how_full_all_is_told()
    {
        await using var crossing = new Crossing(new TPlace());
        var queue = $"q{Guid.NewGuid():n}"[..20];
        using var meters = new Measured(queue);
        var log = new Log
        {
            OnTap = (d, _) => d.Data.Number == 2 ? throw new RejectException("no") : Task.CompletedTask,
        };
        await crossing.StartAsync("fares", c => c.Receive(queue, q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(log));
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(new Tap(1), new Tap(2), new Tap(3));
        await Crossing.UntilAsync(() =>
        {
            meters.Listener.RecordObservableInstruments();
            return Task.FromResult(meters.Last("gentle_courier.queue.dead_letters") == 1
                && meters.Sum("gentle_courier.event.settled", "gentle_courier.outcome", "accepted") == 2);
        }, "the figures are told");

        Assert.Equal(3, meters.Sum("messaging.client.consumed.messages"));
        Assert.Equal(1, meters.Sum("gentle_courier.event.settled", "gentle_courier.outcome", "set_aside"));
        Assert.Equal(3, meters.Count("messaging.process.duration"));
        Assert.Equal(1, meters.Count("messaging.process.duration", "error.type", "GentleCourier.RejectException"));
        Assert.Equal(3, meters.Count("gentle_courier.event.wait"));
        Assert.Equal(0, meters.Last("gentle_courier.queue.ready"));
        Assert.Equal(0, meters.Last("gentle_courier.queue.oldest_age"));
        Assert.True(meters.Sum("messaging.client.sent.messages", Destination, "test.tap") >= 3);
        foreach (var (operation, destination) in new[] { ("send", "test.tap"), ("receive", queue), ("settle", queue) })
            Assert.True(meters.All.Any(m => m.Name == "messaging.client.operation.duration"
                && (string?)m.Tags["messaging.operation.name"] == operation
                && (string?)m.Tags.GetValueOrDefault(Destination) == destination), operation);
        Assert.Equal(3, meters.Histograms.Count);
        // What takes a few milliseconds, and what takes seconds, are told apart.
        Assert.All(meters.Histograms, bounds => Assert.True(bounds.Value is [0.005, .., >= 10], bounds.Key));
    }

    /// <summary>Spans that have ended, of everybody.</summary>
    private sealed class Heard : IDisposable
    {
        private readonly ConcurrentQueue<Activity> all = [];
        private readonly ActivityListener listener;

        public Heard()
        {
            listener = new ActivityListener
            {
                ShouldListenTo = s => s.Name is "test" or CourierTelemetry.Name,
                Sample = (ref ActivityCreationOptions<ActivityContext> _) =>
                    ActivitySamplingResult.AllDataAndRecorded,
                ActivityStopped = all.Enqueue,
            };
            ActivitySource.AddActivityListener(listener);
        }

        public IEnumerable<Span> Named(string name) =>
            all.Where(a => a.DisplayName == name).Select(a => new Span(a));

        public Activity One(string name, Activity trace) =>
            Assert.Single(all, a => a.DisplayName == name && a.TraceId == trace.TraceId);

        public void Dispose() => listener.Dispose();
    }

    private sealed record Span(Activity Activity)
    {
        public bool IsLinkedTo(Activity trace) => Activity.Links.Any(l => l.Context.TraceId == trace.TraceId);
    }

    /// <summary>Measurements that say a queue's name, or nobody's.</summary>
    private sealed class Measured : IDisposable
    {
        private readonly ConcurrentQueue<(string Name, double Value, Dictionary<string, object?> Tags)> all = [];
        private readonly string queue;

        public Measured(string queue)
        {
            this.queue = queue;
            Listener.InstrumentPublished = (instrument, listener) =>
            {
                if (instrument.Meter.Name != CourierTelemetry.Name) return;
                listener.EnableMeasurementEvents(instrument);
                if (instrument is Histogram<double> { Advice.HistogramBucketBoundaries: { } bounds })
                    Histograms[instrument.Name] = bounds;
            };
            Listener.SetMeasurementEventCallback<long>((i, value, tags, _) => Add(i, value, tags));
            Listener.SetMeasurementEventCallback<double>((i, value, tags, _) => Add(i, value, tags));
            Listener.Start();
        }

        public MeterListener Listener { get; } = new();

        /// <summary>The bounds that a histogram advises.</summary>
        public ConcurrentDictionary<string, IReadOnlyList<double>> Histograms { get; } = [];

        public IEnumerable<(string Name, double Value, Dictionary<string, object?> Tags)> All => all;

        public double Sum(string name, string? tag = null, string? value = null) =>
            Of(name, tag, value).Sum(m => m.Value);

        public int Count(string name, string? tag = null, string? value = null) => Of(name, tag, value).Count();

        public double? Last(string name) => Of(name, null, null).Select(m => (double?)m.Value).LastOrDefault();

        public void Dispose() => Listener.Dispose();

        private IEnumerable<(string Name, double Value, Dictionary<string, object?> Tags)> Of(
            string name, string? tag, string? value) => all.Where(
            m => m.Name == name && (tag is null || (m.Tags.TryGetValue(tag, out var said) && (string?)said == value)));

        private void Add(Instrument instrument, double value, ReadOnlySpan<KeyValuePair<string, object?>> tags)
        {
            var said = new Dictionary<string, object?>();
            foreach (var (key, tag) in tags) said[key] = tag;
            if (!said.TryGetValue(Destination, out var of) || (string?)of == queue || (string?)of == "test.tap")
                all.Enqueue((instrument.Name, value, said));
        }
    }
}
