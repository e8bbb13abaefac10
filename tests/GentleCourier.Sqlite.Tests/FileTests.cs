using System.Collections.Concurrent;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Sqlite.Tests;

/// <summary>Paths that are none, and a file that somebody else does not let go.</summary>
public sealed class FileTests
{
    private static IStorePort StoreAt(string path) =>
        new SqliteEngine().CreateStore(new("sqlite", path), TimeProvider.System);

    [Fact]
    public async Task A_path_that_cannot_be_a_file_is_told_as_what_it_is()
    {
        await using var place = new Folder();
        Assert.Contains("has a NUL character in it",
            Assert.Throws<CourierException>(() => StoreAt("a\0b")).Message, StringComparison.Ordinal);
        await using var folder = StoreAt(place.Path);
        await using var nowhere = StoreAt($"{place.Path}/none/x.db");
        foreach (var create in new[] { true, false })
        {
            Assert.Contains("is a directory; name a database file in it", (await Assert.ThrowsAsync<CourierException>(
                () => folder.PrepareAsync(create))).Message, StringComparison.Ordinal);
            Assert.Contains("directory does not exist; make it", (await Assert.ThrowsAsync<CourierException>(
                () => nowhere.PrepareAsync(create))).Message.Replace(
                    "neither does its directory;", "its directory does not exist;", StringComparison.Ordinal),
                StringComparison.Ordinal);
        }
    }

    /// <summary>
    /// The kernel gives a user 128 notifications of files: however many are watched here, others can watch some.
    /// </summary>
    [Fact]
    public async Task Watching_many_files_leaves_notifications_for_others()
    {
        await using var place = new Folder();
        var watched = Path.Combine(place.Path, "watched");
        await File.WriteAllTextAsync(watched, "");
        var all = Enumerable.Range(0, 200).Select(_ => new FileEvents()).ToList();
        try
        {
            var armed = all.Where(events => events.Arm(watched)).ToList();
            Assert.InRange(armed.Count, 1, 64);
            using (var others = new FileSystemWatcher(place.Path)) others.EnableRaisingEvents = true;
            await File.AppendAllTextAsync(watched, "more");
            Assert.All(armed, events => Assert.True(events.Wait(TimeSpan.FromMinutes(1))));
        }
        finally
        {
            all.ForEach(events => events.Dispose());
        }
    }

    /// <summary>Half a minute of real waiting, which is what it is about; three wait at once.</summary>
    [Fact]
    public async Task A_file_that_another_process_keeps_locked_is_told_as_that_to_all_who_wait_for_it()
    {
        await using var crossing = new Crossing(new Folder());
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        await using (var locking = new SqliteConnection($"Data Source={crossing.StoreFile("harbour")};Pooling=False"))
        {
            await locking.OpenAsync();
            await locking.ExecuteAsync("BEGIN IMMEDIATE");
            var outbox = harbour.Services.GetRequiredService<IOutbox>();
            // Each by itself: the first waits for the file on its thread, the others wait in line for the first.
            var errors = await Task.WhenAll(Enumerable.Range(0, 3).Select(i => Task.Run(
                () => Assert.ThrowsAsync<CourierException>(() => outbox.AddAloneAsync(new Tap(i))))));
            Assert.All(errors, e => Assert.Contains(
                "another process keeps it locked, for longer than 30 s; find out which with `fuser FILE`", e.Message,
                StringComparison.Ordinal));
            Assert.All(errors, e => Assert.True(e.IsTransient));
        }
        await harbour.PublishAsync(new Tap(4));
        Assert.Equal(1, (await harbour.Store().ReadOutboxFiguresAsync()).Waiting);
    }

    /// <summary>
    /// A deployment does not wait for whoever keeps a file locked: nothing waits for as long as it would otherwise, and
    /// what was not written comes again.
    /// </summary>
    [Theory]
    [InlineData("broker")]
    [InlineData("fares")]
    public async Task A_host_that_stops_does_not_wait_out_a_lock_that_somebody_keeps(string which)
    {
        await using var crossing = new Crossing(new Folder());
        var said = new Said();
        var gate = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        var log = new Log { OnTap = (_, _) => gate.Task };
        var fares = await crossing.StartAsync(
            "fares", courier => courier.Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
            new()
            {
                ["Courier:Receivers:taps:StopLimit"] = "00:00:01", ["Courier:Receivers:taps:Lease"] = "00:00:01",
            },
            services => services.AddSingleton(log).AddLogging(l => l.AddProvider(said)));
        await fares.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 1), "it is in hand");
        var file = which == "broker" ? crossing.BrokerFile() : crossing.StoreFile(which);
        await using (var locking = new SqliteConnection($"Data Source={file};Pooling=False"))
        {
            await locking.OpenAsync();
            await locking.ExecuteAsync("BEGIN IMMEDIATE");
            gate.SetResult();
            await fares.StopAsync();
            ((IDisposable)fares).Dispose();
        }
        Assert.DoesNotContain(said.Lines, line => line.Contains("longer than 30 s", StringComparison.Ordinal));
        var again = await crossing.StartAsync(
            "fares", courier => courier.Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
            services: services => services.AddSingleton(log));
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 0, InHand: 0, Scheduled: 0 }, "it is settled");
        Assert.Single(await again.Store().Inbox.ReadAsync("taps"));
    }

    /// <summary>What a host has logged.</summary>
    private sealed class Said : ILoggerProvider, ILogger
    {
        public ConcurrentQueue<string> Lines { get; } = [];

        public ILogger CreateLogger(string categoryName) => this;

        public IDisposable? BeginScope<TState>(TState state) where TState : notnull => null;

        public bool IsEnabled(LogLevel logLevel) => true;

        public void Log<TState>(LogLevel logLevel, EventId eventId, TState state, Exception? exception,
            Func<TState, Exception?, string> formatter) =>
            Lines.Enqueue($"{formatter(state, exception)} {exception}");

        public void Dispose()
        {
        }
    }

    [Fact]
    public async Task A_transient_error_of_the_driver_while_the_services_tables_are_made_is_waited_out()
    {
        await using var crossing = new Crossing(new Folder());
        var tries = 0;
        var harbour = await crossing.StartAsync("harbour", c => c.PrepareStore((_, _) => ++tries < 3
            ? throw new SqliteException("database is locked", 5) : Task.CompletedTask));
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Relay is not null, "it is ready, and relays");
        Assert.Equal(3, tries);
        // What somebody has to mend fails the start.
        await Assert.ThrowsAsync<SqliteException>(() => crossing.StartAsync(
            "fares", c => c.PrepareStore((_, _) => throw new SqliteException("near \"CREAT\": syntax error", 1))));
    }
}
