using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Text;
using System.Text.RegularExpressions;
using GentleCourier.Conformance;
using GentleCourier.Servers;
using Microsoft.Extensions.DependencyInjection;
using OpenTelemetry;
using OpenTelemetry.Metrics;

namespace GentleCourier.Postgres.Tests;

/// <summary>The rules for alerts, on what services really export.</summary>
public sealed partial class AlertTests : IDisposable
{
    private const int Minutes = 60;

    private readonly string folder = Directory.CreateTempSubdirectory("courier-alerts-").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    [Fact]
    public async Task Each_alert_is_raised_by_what_it_is_for_and_none_by_what_is_well()
    {
        var (idle, failing, well) = (Unique("idle"), Unique("failing"), Unique("well"));
        using var export = new Export();
        await using var crossing = new Crossing(new Databases());
        await crossing.RouteAsync(("test.tap", idle), ("test.charged", well));
        var log = new Log { OnTap = (_, _) => throw new RejectException("no") };
        await crossing.StartAsync("fares", c => c.Receive(failing, q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(log));
        await crossing.StartAsync("decks", c => c.Receive(well, q => q.Handle<Charged, Fine>()));
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(new Tap(1));
        await harbour.PublishAsync(new Charged(1));
        // A type that no queue is routed for.
        await harbour.PublishAsync(EventDraft.OfJson("test.unrouted", "1"u8.ToArray()));
        var names = new[] { idle, failing, well, crossing.SharedStore("harbour").DisplayName };

        var before = await export.ReadAsync(names, all =>
            Value(all, "gentle_courier_queue_dead_letters", failing) == 1
            && Value(all, "gentle_courier_outbox_held", names[3]) == 1
            && Value(all, "messaging_process_duration_seconds_count", well) == 1);
        await harbour.PublishAsync(new Tap(2), new Tap(3));
        await harbour.PublishAsync(new Charged(2));
        var after = await export.ReadAsync(names, all =>
            Value(all, "gentle_courier_queue_dead_letters", failing) == 3
            && Value(all, "messaging_process_duration_seconds_count", well) == 2);

        Assert.Contains(after.Keys, k => k.Contains("process_duration_seconds_bucket", StringComparison.Ordinal)
            && k.Contains("le=\"0.005\"", StringComparison.Ordinal));
        await RaisesAsync(before, after,
            ("CourierDeadLetters", failing), ("CourierHandlersFail", failing), ("CourierQueueBehind", idle),
            ("CourierQueueUnhandled", idle), ("CourierOutboxBehind", names[3]), ("CourierOutboxHeld", names[3]));
        await RaisesAsync([], [], ("CourierSilent", null));
    }

    private sealed class Fine : IReceiver<Charged>
    {
        public Task HandleAsync(Delivery<Charged> delivery, CancellationToken cancellationToken) => Task.CompletedTask;
    }

    private static string Unique(string name) => $"{name}-{Guid.NewGuid():n}"[..20];

    private static double? Value(Dictionary<string, double> all, string metric, string name) =>
        all.Where(s => s.Key.StartsWith(metric + "{", StringComparison.Ordinal)
            && s.Key.Contains($"\"{name}\"", StringComparison.Ordinal)).Select(s => (double?)s.Value).Sum();

    /// <summary>
    /// These alerts, and no others, are raised an hour later, if things go on as between the two readings: what is
    /// counted grows as it did, and what waits grows older.
    /// </summary>
    private async Task RaisesAsync(Dictionary<string, double> before, Dictionary<string, double> after,
        params (string Alert, string? Of)[] expected)
    {
        var tests = new StringBuilder($"""
            rule_files: [{Script.Find("../docs/alerts.yml")}]
            evaluation_interval: 1m
            tests:
              - interval: 1m
                input_series:

            """);
        foreach (var (series, value) in after)
            tests.Append(Say($"      - series: '{series}'\n        values: '{Course(series, before, value)}'\n"));
        tests.Append(Say($$"""
                promql_expr_test:
                  - eval_time: {{Minutes}}m
                    expr: >-
                      count by (alertname, messaging_destination_name, gentle_courier_store)
                      (ALERTS{alertstate="firing"})
                    exp_samples:

            """));
        foreach (var (alert, of) in expected)
        {
            var kind = alert.StartsWith("CourierOutbox", StringComparison.Ordinal) ? "gentle_courier_store"
                : "messaging_destination_name";
            var about = of is null ? "" : $", {kind}=\"{of}\"";
            tests.Append(Say($"          - labels: '{{alertname=\"{alert}\"{about}}}'\n            value: 1\n"));
        }
        var file = Path.Combine(folder, $"{Guid.NewGuid():n}.yml");
        await File.WriteAllTextAsync(file, tests.ToString());
        // It throws with what there is besides or instead.
        Script.Run("alerts.sh", "test", "rules", file);
    }

    private static string Course(string series, Dictionary<string, double> before, double value)
    {
        var first = before.GetValueOrDefault(series, 0);
        var step = series.Contains("_age_seconds", StringComparison.Ordinal)
            || series.Contains("_lag_seconds", StringComparison.Ordinal) ? value > 0 ? 60 : 0 : value - first;
        return series.StartsWith("gentle_courier_", StringComparison.Ordinal) && step != 60
            && !series.Contains("_total", StringComparison.Ordinal)
            ? Say($"{first} {value}+0x{2 * Minutes}") : Say($"{first}+{step}x{2 * Minutes}");
    }

    private static string Say(FormattableString text) => text.ToString(CultureInfo.InvariantCulture);

    /// <summary>What a scrape of this process brings.</summary>
    private sealed partial class Export : IDisposable
    {
        private readonly MeterProvider provider;
        private readonly HttpClient http = new();
        private readonly Uri address;

        public Export()
        {
            using var probe = new TcpListener(IPAddress.Loopback, 0);
            probe.Start();
            var port = ((IPEndPoint)probe.LocalEndpoint).Port;
            probe.Stop();
            address = new Uri($"http://localhost:{port}/metrics");
            provider = Sdk.CreateMeterProviderBuilder().AddMeter(CourierTelemetry.Name)
                .AddPrometheusHttpListener(o => (o.Host, o.Port) = ("localhost", port)).Build();
        }

        /// <summary>Series with these names in them, once they say something.</summary>
        public async Task<Dictionary<string, double>> ReadAsync(
            string[] names, Func<Dictionary<string, double>, bool> isThere)
        {
            Dictionary<string, double> read = [];
            await Crossing.UntilAsync(async () =>
            {
                var text = await http.GetStringAsync(address);
                read = Sample.Matches(text)
                    .Where(m => names.Any(n => m.Value.Contains($"\"{n}\"", StringComparison.Ordinal)))
                    .ToDictionary(m => m.Groups["series"].Value, m => double.Parse(
                        m.Groups["value"].ValueSpan, CultureInfo.InvariantCulture));
                return isThere(read);
            }, "the export says so");
            return read;
        }

        public void Dispose()
        {
            provider.Dispose();
            http.Dispose();
        }

        [GeneratedRegex(@"^(?<series>\w+\{.*\}) (?<value>\S+)", RegexOptions.Multiline, 1000)]
        private static partial Regex Sample { get; }
    }
}
