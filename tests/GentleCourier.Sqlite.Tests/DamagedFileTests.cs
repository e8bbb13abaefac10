using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite.Tests;

public sealed class DamagedFileTests
{
    private static void Run(string file, string sql)
    {
        using var connection = new SqliteConnection($"Data Source={file};Pooling=False");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    private static async Task<string> ErrorOfAsync(
        Func<Crossing, Task> use, Action<Crossing>? damage = null, bool prepared = true)
    {
        await using var crossing = new Crossing(new Folder());
        if (prepared)
        {
            var store = crossing.Store("harbour");
            await store.PrepareAsync(create: true);
            await store.DisposeAsync();
            var broker = crossing.Broker();
            await broker.PrepareAsync(new Topology(["taps"], []), create: true);
            await broker.DisposeAsync();
        }
        damage?.Invoke(crossing);
        var error = await Assert.ThrowsAsync<CourierException>(() => use(crossing));
        Assert.DoesNotContain('\n', error.Message);
        return error.Message;
    }

    private static Task ReadBroker(Crossing crossing) => crossing.AnotherBroker().Reports!.ReadFiguresAsync();

    private static Task ReadStore(Crossing crossing) => crossing.Store("harbour").ReadOutboxFiguresAsync();

    [Fact]
    public async Task A_copy_that_has_a_place_and_is_not_there_is_told_of_and_delays_nobody()
    {
        await using var crossing = new Crossing(new Folder());
        await crossing.RouteAsync(("test.tap", "taps"));
        await crossing.Broker().PublishAsync([.. Enumerable.Range(1, 3).Select(i => Crossing.TapEvent(i))]);
        Run(crossing.BrokerFile(), "DELETE FROM courier_copy WHERE id IN (1, 3)");
        var reports = new Reports();
        await using var broker = new SqliteEngine().CreateBroker(
            new("sqlite", crossing.BrokerFile()), TimeProvider.System, reports);
        await using var link = await broker.OpenLinkAsync("taps", "w", TimeSpan.FromMinutes(1));
        var taken = await link.ReceiveAsync(10, CancellationToken.None).WaitAsync(Crossing.Limit);
        Assert.Equal(2, Crossing.NumberOf(Assert.Single(taken).Json));
        Assert.Equal(["Copy 1 has", "Copy 3 has"], reports.Lines.Select(line => line[..10]));
        Assert.Equal((0, 1), ((int)(await crossing.FiguresAsync("taps")).Ready!,
            (int)(await crossing.FiguresAsync("taps")).InHand!));
    }

    [Fact]
    public async Task A_file_that_is_not_there() =>
        Assert.Contains("does not exist", await ErrorOfAsync(ReadBroker, prepared: false), StringComparison.Ordinal);

    [Fact]
    public async Task A_directory() =>
        Assert.Contains("is a directory", await ErrorOfAsync(
            ReadBroker, c => Directory.CreateDirectory(c.BrokerFile()), prepared: false), StringComparison.Ordinal);

    [Fact]
    public async Task A_directory_that_is_not_there() => Assert.Contains(
        "its directory does not exist",
        await ErrorOfAsync(c => c.Store("nowhere/harbour").PrepareAsync(create: true), prepared: false),
            StringComparison.Ordinal);

    [Fact]
    public async Task Something_that_is_no_database() => Assert.Contains(
        "not a SQLite database",
        await ErrorOfAsync(ReadBroker, c => File.WriteAllText(c.BrokerFile(), new string('x', 5000)), prepared: false),
            StringComparison.Ordinal);

    [Fact]
    public async Task A_database_of_something_else()
    {
        var damage = (Crossing c) => Run(c.BrokerFile(), "CREATE TABLE recipe (name TEXT)");
        Assert.Contains("without a broker of Gentle Courier", await ErrorOfAsync(ReadBroker, damage, prepared: false),
            StringComparison.Ordinal);
        Assert.Contains(
            "belongs to another application (it has a table 'recipe')",
            await ErrorOfAsync(c => c.RouteAsync(("t", "q")), damage, prepared: false), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_newer_schema()
    {
        const string newer = "UPDATE courier_schema SET version = 99, oldest = 98, release = '7.0.0'";
        const string expected = "has version 99, made by a newer Gentle Courier, and takes 7.0.0 or later";
        Assert.Contains(
            expected, await ErrorOfAsync(ReadBroker, c => Run(c.BrokerFile(), newer)), StringComparison.Ordinal);
        Assert.Contains(
            expected, await ErrorOfAsync(ReadStore, c => Run(c.StoreFile("harbour"), newer)), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_damaged_file()
    {
        var message = await ErrorOfAsync(ReadBroker, c =>
        {
            using var file = new FileStream(c.BrokerFile(), FileMode.Open);
            file.Position = 4096;
            file.Write(new byte[4096 * 8]);
        });
        Assert.Contains("the file is damaged", message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_file_that_is_locked_for_good()
    {
        await using var crossing = new Crossing(new Folder());
        await crossing.RouteAsync(("test.tap", "taps"));
        var file = new SqliteFile(crossing.BrokerFile());
        using var locked = new SqliteConnection($"Data Source={crossing.BrokerFile()};Pooling=False");
        locked.Open();
        using var begin = locked.CreateCommand();
        begin.CommandText = "BEGIN IMMEDIATE";
        begin.ExecuteNonQuery();
        using var other = file.Open();
        Patience.Give(other, TimeSpan.FromMilliseconds(50));
        var busy = Assert.Throws<SqliteException>(() => SqliteFile.Execute(other, "BEGIN IMMEDIATE"));
        Assert.Contains(
            "another process keeps it locked", file.Problem(busy, "write").Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData(":memory:")]
    [InlineData("file:x?mode=memory")]
    public void An_address_that_is_no_file(string location)
    {
        var error = Assert.Throws<CourierException>(() => new SqliteEngine().CreateBroker(
            new("sqlite", location), TimeProvider.System));
        Assert.Contains("is not a file path", error.Message, StringComparison.Ordinal);
    }
}
