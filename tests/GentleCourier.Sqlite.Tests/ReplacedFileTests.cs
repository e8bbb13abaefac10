using GentleCourier.Conformance;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Sqlite.Tests;

/// <summary>A broker's file that is deleted, moved away or restored under services that run.</summary>
public sealed class ReplacedFileTests
{
    /// <summary>The file itself is never there without its log: whoever opened it then would begin another.</summary>
    private static void Move(string from, string to, bool away)
    {
        string[] ends = ["", "-wal", "-shm"];
        foreach (var end in away ? ends : Enumerable.Reverse(ends))
            if (File.Exists(from + end)) File.Move(from + end, to + end, overwrite: true);
    }

    /// <summary>All of it in one file.</summary>
    private static void Copy(string from, string to)
    {
        using var source = new SqliteConnection($"Data Source={from};Pooling=False");
        using var target = new SqliteConnection($"Data Source={to};Pooling=False");
        source.Open();
        target.Open();
        source.BackupDatabase(target);
    }

    [Fact]
    public async Task Nothing_is_confirmed_into_a_file_that_is_gone_and_what_is_put_back_is_used_again()
    {
        await using var crossing = new Crossing(new Folder());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log();
        var fares = await crossing.StartAsync(
            "fares", courier => courier.Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
            new() { ["Courier:Relay:FirstDelay"] = "00:00:00.010", ["Courier:Relay:MaxDelay"] = "00:00:00.100" },
            services => services.AddSingleton(log));
        await fares.PublishAsync(Enumerable.Range(0, 10).Select(i => new Tap(i)));
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 10), "ten are handled");

        var file = crossing.BrokerFile();
        Move(file, file + ".away", away: true);
        await fares.PublishAsync(Enumerable.Range(10, 10).Select(i => new Tap(i)));
        await Crossing.UntilAsync(
            async () => (await crossing.SharedStore("fares").ReadOutboxFiguresAsync()).LastError is not null,
            "it says so");
        Assert.Equal(10, (await crossing.SharedStore("fares").ReadOutboxFiguresAsync()).Waiting);
        Move(file + ".away", file, away: false);
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 20), "the others are handled, too");
        Assert.Equal(Enumerable.Range(0, 20), log.Taps.Select(t => t.Data.Number).Order());
    }

    [Fact]
    public async Task A_backup_that_is_restored_under_running_services_is_noticed_before_it_is_trusted()
    {
        await using var crossing = new Crossing(new Folder());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync(
            "harbour", settings: new() { ["Courier:Relay:MaxDelay"] = "00:00:00.100" });
        var store = crossing.SharedStore("harbour");
        await harbour.PublishAsync(new Tap(0));
        await AllRelayedAsync();
        var file = crossing.BrokerFile();
        Copy(file, file + ".backup");
        await harbour.PublishAsync(Enumerable.Range(1, 9).Select(i => new Tap(i)));
        await AllRelayedAsync();

        Move(file, file + ".lost", away: true);
        Move(file + ".backup", file, away: false);
        await harbour.PublishAsync(new Tap(10));
        await Crossing.UntilAsync(
            async () => (await store.ReadOutboxFiguresAsync()).LastError?.Contains(
                "has fallen behind, like a backup", StringComparison.Ordinal) == true, "it says so");
        Assert.Equal(1, (await store.ReadOutboxFiguresAsync()).Waiting);
        Assert.Equal(1, (await crossing.FiguresAsync("taps")).Ready);
        await store.AcceptBrokerAsync(asNewStore: false);
        await AllRelayedAsync();
        Assert.Equal(2, (await crossing.FiguresAsync("taps")).Ready);

        Task AllRelayedAsync() => Crossing.UntilAsync(
            async () => (await store.ReadOutboxFiguresAsync()).Waiting == 0, "all is relayed");
    }
}
