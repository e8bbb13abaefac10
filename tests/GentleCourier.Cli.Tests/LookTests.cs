using System.Text;
using System.Text.Json.Nodes;
using GentleCourier.Engines;
using GentleCourier.Sqlite;

namespace GentleCourier.Cli.Tests;

/// <summary>By hand: events are looked at where they are.</summary>
public sealed class LookTests : IDisposable
{
    private readonly Courier courier = new();

    public void Dispose() => courier.Dispose();

    private static EncodedEvent Event(string type, string id, string? key = null, string? subject = null)
    {
        var said = (key is null ? "" : $"\"partitionkey\":\"{key}\",")
            + (subject is null ? "" : $"\"subject\":\"{subject}\",");
        var head = $"\"specversion\":\"1.0\",\"id\":\"{id}\",\"source\":\"/t\",\"type\":\"{type}\",";
        return new(id, type, key, Encoding.UTF8.GetBytes($"{{{head}{said}\"data\":{{\"n\":\"{id}\"}}}}"));
    }

    [Fact]
    public async Task The_next_events_of_a_queue_are_shown_and_none_is_taken()
    {
        await using var broker = await courier.MakeBrokerAsync("taps", "notes");
        (await courier.RunAsync("look", "taps")).Says("queue taps of sqlite:");
        await broker.PublishAsync(
            [.. Enumerable.Range(1, 30).Select(i => Event("test.taps", $"gate-1/{i}", $"card-{i % 3}"))]);
        await using var link = await broker.OpenLinkAsync("taps", "pier/7", TimeSpan.FromMinutes(5));
        var taken = await link.ReceiveAsync(2, CancellationToken.None);
        await link.SettleAsync(
            [new(taken[1], new Outcome.Modified(TimeSpan.FromHours(1), "the reader is \u001b[31mbroken"))], 0, default);

        var shown = await courier.RunAsync("look", "taps");
        shown.Says("in-hand  test.taps gate-1/1\n         in hand of pier/7, until ");
        shown.Says("ready    test.taps gate-1/3\n         here for ");
        shown.Says("not tried yet, key card-0, ");
        shown.Says("(the next 20; --limit N for more)");
        Assert.DoesNotContain('\u001b', shown.Output);
        var later = await courier.RunAsync("look", "taps", "--state", "later");
        Assert.Matches(
            @"later +test.taps gate-1/2\n +due [-0-9]+ [:0-9]+.*, in \d+ min, .*tried 1 time, ", later.Output);
        later.Says("last error: the reader is");

        // As it was.
        Assert.Equal((1, 30), (taken[0].Attempt, (await broker.Reports!.PeekAsync("taps", 99)).Count));
        var all = await courier.RunAsync("look");
        all.Says("queue notes of sqlite:");
        all.Says("no events");
        all.Says("(the next 3; --limit N for more)");
        (await courier.RunAsync("look", "typo")).Fails(1, "queue 'typo' does not exist in sqlite:");
    }

    [Fact]
    public async Task Events_are_looked_for_within_a_bound_which_is_said()
    {
        await using var broker = await courier.MakeBrokerAsync("taps");
        await broker.PublishAsync([.. Enumerable.Range(1, 1200).Select(
            i => Event("test.taps", $"gate-1/{i}", i % 600 == 0 ? "card-600" : null, i == 1200 ? "Longsand" : null))]);
        (await courier.RunAsync("look", "taps", "--event", "gate-1/1100")).Says("test.taps gate-1/1100");
        var keyed = await courier.RunAsync("look", "taps", "--key", "card-600", "--within", "1000");
        keyed.Says("gate-1/600");
        Assert.DoesNotContain("gate-1/1200", keyed.Output, StringComparison.Ordinal);
        keyed.Says("(looked through the next 1,000 events; --within N for more)");
        (await courier.RunAsync("look", "taps", "--subject", "Longsand")).Says("gate-1/1200");
        (await courier.RunAsync("look", "taps", "--type", "test.nothing")).Says("none such");
        (await courier.RunAsync("look", "taps", "--event", "gate-9/9"))
            .Fails(1, "event 'gate-9/9' is not among the 1,200 events that were looked through");
        foreach (var wrong in new[] { "0", "-1", "x", "100000001" })
            (await courier.RunAsync("look", "taps", "--within", wrong))
                .FailsAfter(2, "--within must be a whole number");
        (await courier.RunAsync("look", "taps", "--state", "lost")).FailsAfter(2, "'lost'");
        (await courier.RunAsync("look", "taps", "--outbox")).Fails(2, "not both");

        var whole = await courier.RunAsync("look", "taps", "--event", "gate-1/1200", "--whole");
        whole.Says("subject        Longsand");
        whole.Says("  \"n\": \"gate-1/1200\"");
    }

    [Fact]
    public async Task Scripts_get_a_line_for_each_with_the_event_as_it_is()
    {
        await using var broker = await courier.MakeBrokerAsync("taps");
        await broker.PublishAsync(
        [
            Event("test.taps", "gate-1/1", "card-1"),
            new EncodedEvent("2", "test.taps", null, "{\"no\""u8.ToArray()),
        ]);
        var lines = (await courier.RunAsync("look", "taps", "--json")).Output.Trim().Split('\n')
            .Select(line => JsonNode.Parse(line)!).ToList();
        Assert.Equal(["taps", "taps"], lines.Select(l => (string?)l["queue"]));
        Assert.Equal(("ready", 0, "gate-1/1", "card-1"), ((string?)lines[0]["state"], (int?)lines[0]["attempts"],
            (string?)lines[0]["event"]!["id"], (string?)lines[0]["event"]!["partitionkey"]));
        Assert.Equal("{\"no\"", Encoding.UTF8.GetString(Convert.FromBase64String((string)lines[1]["base64"]!)));
        (await courier.RunAsync("look", "taps")).Says("(unreadable)");
    }

    [Fact]
    public async Task What_waits_in_an_outbox_is_shown_and_told_of()
    {
        await using var store = new SqliteEngine().CreateStore(new("sqlite", courier.StoreFile), TimeProvider.System);
        await store.PrepareAsync(create: true);
        courier.Environment["COURIER_STORE"] = courier.Store;
        (await courier.RunAsync("outbox")).Says("no held or refused events in the outbox of sqlite:");
        await using (var connection = await store.OpenConnectionAsync())
        {
            await using var transaction = await connection.BeginTransactionAsync();
            await store.AddAsync(transaction, [.. Enumerable.Range(1, 4).Select(i => Event("test.taps", $"{i}"))]);
            await store.Later.AddAsync(
                transaction, [new LaterDraft(Event("test.taps", "5"), DueTime.In(TimeSpan.FromHours(2)))]);
            await transaction.CommitAsync();
        }
        var term = (await store.LeadAsync("relay", TimeSpan.FromMinutes(1)))!.Value;
        var rows = (await store.ReadOutboxAsync(10)).Rows;
        await store.MarkAsync(term, Publishing.Marking.Of(
            [.. rows.Take(2)],
            [PublishResult.Deferred("no queue is routed"), PublishResult.Refused("too large")],
            _ => TimeSpan.FromMinutes(10)));

        var outbox = await courier.RunAsync("outbox");
        outbox.Says("2 events in it wait to be relayed");
        outbox.Says("courier look --outbox");
        var look = await courier.RunAsync("look", "--outbox");
        look.Says("waiting  test.taps 3");
        look.Says("held     test.taps 1");
        look.Says("last error: no queue is routed");
        look.Says("refused  test.taps 2");
        look.Says("later    test.taps 5");
        (await courier.RunAsync("look", "--state", "refused", "--outbox")).Says("last error: too large");
        (await courier.RunAsync("look", "--outbox", "--event", "4", "--json")).Says("\"outbox\":\"sqlite:");
    }

    [Fact]
    public async Task Times_are_local_ones_with_their_offset_or_by_an_option_in_utc()
    {
        await using var store = new SqliteEngine().CreateStore(new("sqlite", courier.StoreFile), TimeProvider.System);
        await store.PrepareAsync(create: true);
        (courier.Environment["COURIER_STORE"], courier.Environment["TZ"]) = (courier.Store, "Europe/Lisbon");
        await using (var connection = await store.OpenConnectionAsync())
        {
            await using var transaction = await connection.BeginTransactionAsync();
            var due = DueTime.At(new DateTimeOffset(2031, 6, 14, 5, 0, 0, TimeSpan.Zero));
            await store.Later.AddAsync(transaction, [new LaterDraft(Event("test.taps", "5"), due)]);
            await transaction.CommitAsync();
        }
        foreach (var command in new[] { new[] { "later" }, ["later", "show", "5"], ["look", "--outbox"] })
        {
            (await courier.RunAsync(command)).Says("2031-06-14 06:00:00 +01:00");
            (await courier.RunAsync([.. command, "--utc"])).Says("2031-06-14 05:00:00Z");
        }
        (await courier.RunAsync("later", "move", "--id", "5", "--to", "2031-06-14 07:30")).Says("1 event moved");
        (await courier.RunAsync("later")).Says("2031-06-14 07:30:00 +01:00");
        (await courier.RunAsync("later", "move", "--id", "5", "--to", "2031-06-14 07:30", "--utc")).Says("moved");
        (await courier.RunAsync("later")).Says("2031-06-14 08:30:00 +01:00");
    }
}
