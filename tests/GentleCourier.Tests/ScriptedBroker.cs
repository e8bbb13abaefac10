using System.Collections.Concurrent;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Receiving.Handling;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Tests;

/// <summary>A broker that can do nothing but hand over and take back, by links that do what a test says.</summary>
internal sealed class ScriptedBroker : IBroker
{
    public string DisplayName => "a broker of paper";

    public BrokerAbilities Abilities => BrokerAbilities.None;

    public BrokerServices Services { get; } = new();

    /// <summary>Called for each link, the first being 1.</summary>
    public required Func<int, ScriptedLink> Open { get; init; }

    public int Opened { get; private set; }

    public Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken) => Task.CompletedTask;

    public Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) => throw new NotSupportedException();

    public Task<IReceivingLink> OpenLinkAsync(
        string queue, string worker, TimeSpan lease, CancellationToken cancellationToken) =>
        Task.FromResult<IReceivingLink>(Open(++Opened));

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;
}

/// <summary>A link that hands over what a test gives it, until that has it fail.</summary>
internal sealed class ScriptedLink : IReceivingLink
{
    private readonly TaskCompletionSource lost = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly BlockingCollection<HandOver> given = [];
    private readonly SemaphoreSlim gives = new(0);

    public TimeSpan? RenewEvery => null;

    public TimeSpan? RoundTrip => null;

    /// <summary>Called before each receive; what it throws is thrown, after a while.</summary>
    public Action Before { get; init; } = static () => { };

    public ConcurrentQueue<Settlement> Settled { get; } = [];

    public void Give(HandOver delivery)
    {
        given.Add(delivery);
        gives.Release();
    }

    public void Lose() => lost.TrySetResult();

    public async Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken)
    {
        await Task.Yield();
        Before();
        var next = gives.WaitAsync(cancellationToken);
        if (await Task.WhenAny(next, lost.Task) == lost.Task) throw new LinkLostException("the paper is torn");
        await next;
        return [given.Take(cancellationToken)];
    }

    public Task<Exchange> SettleAsync(
        IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken)
    {
        if (lost.Task.IsCompleted) throw new LinkLostException("the paper is torn");
        foreach (var settlement in settlements) Settled.Enqueue(settlement);
        return Task.FromResult(new Exchange([.. settlements.Select(_ => true)], []));
    }

    public Task ConfirmAsync(CancellationToken cancellationToken) => Task.CompletedTask;

    public Task<IReadOnlyList<bool>> RenewAsync(
        IReadOnlyList<HandOver> deliveries, CancellationToken cancellationToken) => throw new NotSupportedException();

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;
}

/// <summary>What a <see cref="ScriptedLink"/> hands over.</summary>
internal sealed class ScriptedDelivery(ReadOnlyMemory<byte> json) : HandOver(json, null, null);

[WireType("test.tide")]
internal sealed record Tide(int Height);

/// <summary>A worker of a queue of a <see cref="ScriptedBroker"/>, without a store, by a test's clock.</summary>
internal sealed class ScriptedWorker : IAsyncDisposable, ILogger
{
    public static readonly TimeSpan Limit = TimeSpan.FromMinutes(4);

    private readonly CancellationTokenSource stopping = new();
    private readonly ContractCodec codec;
    private readonly QueueWorker worker;
    private readonly ServiceProvider services;
    private Task? running;

    public ScriptedWorker(ScriptedBroker broker, Func<Delivery<Tide>, CancellationToken, Task> handle)
    {
        codec = new ContractCodec(
            new(JsonSerializerDefaults.Web) { TypeInfoResolver = new DefaultJsonTypeInfoResolver() }, "/harbour",
            100_000, Clock);
        var collection = new ServiceCollection();
        var binding = new QueueBinding("tides", collection);
        (binding.Options.Parallel, binding.Options.Prefetch) = (2, 4);
        binding.Handle<Tide, Receiver>();
        services = collection.AddSingleton(handle).BuildServiceProvider();
        worker = new QueueWorker(
            binding, broker, null, codec, services.GetRequiredService<IServiceScopeFactory>(), Clock, this);
    }

    public FakeTimeProvider Clock { get; } = new();

    public ConcurrentQueue<string> Lines { get; } = [];

    public ReceiverFigures Figures => worker.Figures;

    public void Start() => running = Task.Run(() => worker.RunAsync(stopping.Token));

    /// <summary>Ends when what is in hand is settled.</summary>
    public async Task StopAsync()
    {
        await stopping.CancelAsync();
        if (running is not null) await running.WaitAsync(Limit);
    }

    public ScriptedDelivery Deliver(int height, string id) =>
        new(EventDraft.Of(new Tide(height), new() { Id = id }).Create(codec).Json);

    /// <summary>Waits for a condition while the clock goes on, by so much at a time; how long it took by it.</summary>
    public async Task<TimeSpan> UntilAsync(Func<bool> condition, TimeSpan step = default)
    {
        var (began, passed) = (System.Diagnostics.Stopwatch.GetTimestamp(), TimeSpan.Zero);
        while (!condition())
        {
            Assert.True(System.Diagnostics.Stopwatch.GetElapsedTime(began) < Limit, "waited in vain");
            Clock.Advance(step);
            passed += step;
            await Task.Delay(1);
        }
        return passed;
    }

    public async ValueTask DisposeAsync()
    {
        await StopAsync();
        worker.Dispose();
        await services.DisposeAsync();
        stopping.Dispose();
    }

    IDisposable? ILogger.BeginScope<TState>(TState state) => null;

    bool ILogger.IsEnabled(LogLevel logLevel) => logLevel >= LogLevel.Information;

    void ILogger.Log<TState>(LogLevel logLevel, EventId eventId, TState state, Exception? exception,
        Func<TState, Exception?, string> formatter) => Lines.Enqueue(formatter(state, exception));

    internal sealed class Receiver(Func<Delivery<Tide>, CancellationToken, Task> handle) : IReceiver<Tide>
    {
        public Task HandleAsync(Delivery<Tide> delivery, CancellationToken cancellationToken) =>
            handle(delivery, cancellationToken);
    }
}
