using System.Data.Common;
using System.Text;
using GentleCourier.Engines;
using GentleCourier.Receiving.Handling;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Tests;

/// <summary>How often an inbox is asked, and how old an answer may be that is believed.</summary>
public sealed class InboxLookTests
{
    private readonly FakeTimeProvider clock = new();
    private readonly Asked inbox = new();
    private readonly InboxLook look;

    public InboxLookTests() => look = new(inbox, "taps", clock);

    private List<ReadDelivery> Come(int count, string ids = "")
    {
        var taken = Enumerable.Range(0, count)
            .Select(i => new TakenDelivery(new Tap($"{ids}{i}"), new(1, 0, 0, 0), new() { Settler = null! }, null!))
            .ToList();
        look.Ahead(taken);
        return taken.ConvertAll(t => new ReadDelivery(t, t.Event));
    }

    /// <returns>Whether it was handled here; a copy of what had been is not.</returns>
    private async Task<bool> HandleAsync(ReadDelivery delivery, TimeSpan takes)
    {
        var answer = await look.AbsorbAsync([delivery], TestContext.Current.CancellationToken);
        if (answer[0].IsHandled) return false;
        clock.Advance(takes);
        look.Handled(delivery.Key);
        inbox.Handled.Add(delivery.Key);
        return true;
    }

    [Theory]
    [InlineData(1, 1_000, 12)]
    [InlineData(20, 100, 22)]
    [InlineData(60, 50, 40)]
    [InlineData(500, 20, 20)]
    public async Task What_waits_is_looked_for_together_again_and_again(int milliseconds, int count, int most)
    {
        foreach (var delivery in Come(count))
            Assert.True(await HandleAsync(delivery, TimeSpan.FromMilliseconds(milliseconds)));
        Assert.InRange(inbox.Looks, 1, most);
    }

    [Fact]
    public async Task What_another_has_handled_more_than_a_tenth_of_a_second_ago_does_not_act_again()
    {
        var random = new Random(7);
        var come = Come(1_000);
        var since = new Dictionary<EventKey, DateTimeOffset>();
        foreach (var delivery in come)
        {
            var another = come[random.Next(come.Count)].Key;
            if (inbox.Handled.Add(another)) since[another] = clock.GetUtcNow();
            var isNew = await HandleAsync(delivery, TimeSpan.FromMilliseconds(random.Next(60)));
            if (isNew && since.TryGetValue(delivery.Key, out var at))
                Assert.InRange(clock.GetUtcNow() - at, TimeSpan.Zero, TimeSpan.FromMilliseconds(160));
        }
    }

    [Fact]
    public async Task A_batch_that_has_waited_is_looked_for_at_once()
    {
        var come = Come(100);
        clock.Advance(TimeSpan.FromSeconds(1));
        inbox.Handled.Add(come[42].Key);
        var answers = await look.AbsorbAsync(come, TestContext.Current.CancellationToken);
        Assert.Equal(Enumerable.Range(0, 100).Select(i => i == 42), answers.Select(a => a.IsHandled));
        // When it came, when it was taken up, and of the one that had been handled, to count it.
        Assert.Equal(3, inbox.Looks);
    }

    [Fact]
    public async Task A_second_copy_in_the_same_hand_over_and_the_next_does_not_act()
    {
        var first = Come(3, "a");
        var again = Come(3, "a");
        foreach (var delivery in first) Assert.True(await HandleAsync(delivery, TimeSpan.Zero));
        foreach (var delivery in again) Assert.False(await HandleAsync(delivery, TimeSpan.Zero));
    }

    [Fact]
    public async Task While_the_inbox_cannot_be_asked_nothing_is_taken_for_new()
    {
        inbox.IsAway = true;
        var come = Come(2);
        await Assert.ThrowsAsync<CourierException>(() => HandleAsync(come[0], TimeSpan.Zero));
        inbox.IsAway = false;
        clock.Advance(TimeSpan.FromSeconds(1));
        Assert.True(await HandleAsync(come[0], TimeSpan.Zero));
        Assert.True(await HandleAsync(come[1], TimeSpan.Zero));
    }

    private sealed class Tap(string id) : HandOver(
        Encoding.UTF8.GetBytes($$"""{"specversion":"1.0","id":"{{id}}","source":"/t","type":"test.tap","data":1}"""),
        null, null);

    /// <summary>Counts what it is asked.</summary>
    private sealed class Asked : IInboxPort
    {
        public HashSet<EventKey> Handled { get; } = [];

        public int Looks { get; private set; }

        public bool IsAway { get; set; }

        public Task<IReadOnlyList<bool>> LookIntoInboxAsync(
            string queue, IReadOnlyList<EventKey> events, bool willHandle, CancellationToken cancellationToken)
        {
            if (IsAway) throw new CourierException("it is away") { IsTransient = true };
            Looks++;
            return Task.FromResult<IReadOnlyList<bool>>([.. events.Select(Handled.Contains)]);
        }

        public async Task<IReadOnlyList<InboxAnswer>> AbsorbHandledAsync(
            string queue, IReadOnlyList<InboxEvent> events, CancellationToken cancellationToken) =>
            [.. (await LookIntoInboxAsync(queue, [.. events.Select(e => new EventKey(e.Source, e.Id))],
                false, cancellationToken)).Select(was => new InboxAnswer(was))];

        public Task<IInboxScope?> BeginHandlingAsync(string queue, IReadOnlyList<InboxEvent> events, IUnitOfWork? work,
            CancellationToken cancellationToken) => throw new NotSupportedException();

        public bool IsTransient(DbException exception) => false;
    }
}
