using GentleCourier.Conformance;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Sqlite.Tests;

/// <summary>What is asked for inside a transaction on the file, and without it, would wait for itself.</summary>
public sealed class InsideTests
{
    public static TheoryData<string> Calls => ["cancel", "move", "pause", "change", "fire"];

    [Theory]
    [MemberData(nameof(Calls))]
    public async Task It_is_refused_at_once_and_says_what_to_do(string call)
    {
        await using var crossing = new Crossing(new Folder());
        var harbour = await crossing.StartAsync(
            "harbour", c => c.Schedule("closing", new Tap(1), s => s.Every = TimeSpan.FromDays(1)),
            new() { ["Courier:Relay:Enabled"] = "false" });
        var (later, schedules) = (
            harbour.Services.GetRequiredService<ILaterEvents>(), harbour.Services.GetRequiredService<ISchedules>());
        await Crossing.UntilAsync(async () => (await schedules.ListAsync()).Count == 1, "it is declared");
        await harbour.PublishAsync(
            EventDraft.Of(new Tap(2), new() { Id = "2", Due = DueTime.In(TimeSpan.FromDays(1)) }));

        await using var connection = await harbour.Store().OpenConnectionAsync();
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            var refused = await Assert.ThrowsAsync<CourierException>(() => CallAsync());
            Assert.Contains("which is given along where a method takes one", refused.Message, StringComparison.Ordinal);
            // Looking needs no turn.
            Assert.Single(await schedules.ListAsync());
            await transaction.CommitAsync();
        }
        await CallAsync();

        Task CallAsync() => call switch
        {
            "cancel" => later.CancelAsync(new() { Id = "2" }),
            "move" => later.MoveAsync(new() { Id = "2" }, DueTime.In(TimeSpan.FromHours(1))),
            "pause" => schedules.PauseAsync("closing"),
            "change" => schedules.ChangeAsync("closing", o => o.Every = TimeSpan.FromHours(1)),
            _ => schedules.FireAsync("closing"),
        };
    }
}
