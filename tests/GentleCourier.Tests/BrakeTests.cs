using CsCheck;
using GentleCourier.Engines;
using GentleCourier.Receiving.Handling;

namespace GentleCourier.Tests;

public sealed class BrakeTests
{
    private const string Down = "HttpRequestException", Other = "ArgumentException";

    private static EventKey Event(int number) => new("/t", $"{number}");

    private static TimeSpan At(double seconds) => TimeSpan.FromSeconds(seconds);

    private static Blame Blamed(Brake brake, int number, double at = 0, string kind = Down, bool isTrial = false) =>
        brake.Failed(Event(number), kind, isTrial ? Nature.Trial : Nature.Plain, At(at), random: 0.5);

    private static bool Fail(Brake brake, int number, double at = 0, string kind = Down, bool isTrial = false) =>
        Blamed(brake, number, at, kind, isTrial) != Blame.Others;

    [Fact]
    public void It_comes_on_when_so_many_different_events_have_failed_alike_and_the_first_success_takes_it_off()
    {
        var brake = new Brake(3);
        Assert.True(Fail(brake, 1));
        Assert.True(Fail(brake, 2));
        Assert.True(Fail(brake, 2));
        Assert.True(Fail(brake, 3, kind: Other));
        Assert.False(brake.IsOn);
        Assert.False(Fail(brake, 4));
        Assert.True(brake.IsOn);
        Assert.Equal(Down, brake.Kind);

        // Whatever still fails alike does not count; what fails in another way does.
        Assert.False(Fail(brake, 5));
        Assert.True(Fail(brake, 6, kind: Other));
        brake.Succeeded(Event(7));
        Assert.False(brake.IsOn);
        Assert.True(Fail(brake, 8));
    }

    [Fact]
    public void Each_time_it_has_come_off_it_takes_twice_as_many_until_all_has_gone_well_for_a_while()
    {
        var (brake, number, needed) = (new Brake(3), 0, new List<int>());
        for (var i = 0; i < 7; i++)
        {
            var before = number;
            while (!brake.IsOn) Fail(brake, ++number);
            needed.Add(number - before);
            brake.Succeeded(Event(0));
        }
        Assert.Equal([3, 6, 12, 24, 48, 96, 96], needed);
        for (var i = 0; i < Brake.While; i++) brake.Succeeded(Event(0));
        for (var i = 1; i <= 3; i++) Fail(brake, ++number);
        Assert.True(brake.IsOn);
    }

    [Fact]
    public void While_it_is_on_one_is_tried_after_a_pause_that_grows()
    {
        var brake = new Brake(1);
        Fail(brake, 0);
        var (pauses, now) = (new List<double>(), 0.0);
        for (var number = 1; number <= 10; number++)
        {
            pauses.Add(brake.NextTry.TotalSeconds - now);
            Assert.False(brake.IsDue(brake.NextTry - TimeSpan.FromTicks(1)));
            now = brake.NextTry.TotalSeconds;
            Assert.True(brake.IsDue(At(now)));
            brake.Try(At(now));
            // No second one at the same time.
            Assert.False(brake.IsDue(At(now)));
            Assert.False(Fail(brake, number, now, isTrial: true));
        }
        Assert.Equal(
            [0.1875, 0.375, 0.75, 1.5, 3, 6, 11.25, 11.25, 11.25, 11.25], pauses, (a, b) => Math.Abs(a - b) < 1e-6);

        // One that tells nothing leaves its turn to the next.
        brake.Try(At(now));
        brake.TryAgain(At(now));
        Assert.True(brake.IsDue(At(now)));

        // Of one that is never heard of again it does not wait for ever.
        brake.Try(At(now));
        Assert.True(brake.IsDue(At(now) + Brake.LongestPause));
    }

    /// <summary>One poison event, tried as often as one likes, among any number of good ones or none.</summary>
    [Fact]
    public void One_event_alone_never_puts_it_on() =>
        Gen.Select(Gen.Int[2, 10], Gen.Bool.Array[0, 200]).Sample((after, steps) =>
        {
            var brake = new Brake(after);
            var number = 0;
            foreach (var succeeds in steps)
            {
                if (succeeds) brake.Succeeded(Event(++number));
                else Assert.True(Fail(brake, 0));
                Assert.False(brake.IsOn);
            }
        });

    /// <summary>However many events are at fault themselves, once others have succeeded after them.</summary>
    [Fact]
    public void Events_that_failed_while_others_succeeded_neither_put_it_on_nor_keep_it_on() =>
        Gen.Select(Gen.Int[2, 5], Gen.Int[1, 30], Gen.Int[0, 29].Array[1, 100]).Sample((after, poison, tries) =>
        {
            var brake = new Brake(after);
            for (var number = 0; number < poison; number++)
            {
                Fail(brake, number);
                brake.Succeeded(Event(1000 + number));
            }
            foreach (var number in tries) Assert.Equal(Blame.Event, Blamed(brake, number % poison));
            Assert.False(brake.IsOn);

            // In an outage they still count, and the next event is tried soon.
            for (var number = 100; !brake.IsOn; number++) Fail(brake, number);
            for (var i = 0; i < 10; i++) Fail(brake, 200 + i, isTrial: true);
            Assert.True(Fail(brake, 0, at: 100, isTrial: true));
            Assert.True(brake.NextTry <= At(100) + Brake.FirstPause);
        });

    /// <summary>Whatever happens, it is on only after enough different failures with no success between.</summary>
    [Fact]
    public void It_is_never_on_without_enough_different_events_that_failed_alike_since_the_last_success() =>
        Gen.Select(Gen.Int[1, 6], Gen.Select(Gen.Int[0, 12], Gen.Int[0, 2]).Array[0, 300]).Sample((after, steps) =>
        {
            var brake = new Brake(after);
            var since = new Dictionary<string, HashSet<int>> { [Down] = [], [Other] = [] };
            foreach (var (number, what) in steps)
            {
                var kind = what == 1 ? Down : Other;
                if (what == 0)
                {
                    brake.Succeeded(Event(number));
                    foreach (var events in since.Values) events.Clear();
                }
                else
                {
                    Fail(brake, number, kind: kind);
                    since[kind].Add(number);
                }
                if (brake.IsOn) Assert.True(since[brake.Kind!].Count >= after);
            }
        });

    /// <summary>A receiver that rejects says that the event is at fault, and is believed for longer.</summary>
    [Fact]
    public void It_takes_more_rejections_than_failures_to_put_it_on()
    {
        var brake = new Brake(5);
        for (var number = 1; number < 5 * Brake.MoreRejections; number++)
            Assert.Equal(
                Blame.Open, brake.Failed(Event(number), "RejectException", Nature.Rejection, At(0), 0.5));
        Assert.Equal(Blame.Others, brake.Failed(Event(0), "RejectException", Nature.Rejection, At(0), 0.5));
        Assert.True(brake.IsOn);
    }

    [Fact]
    public void An_event_with_which_patience_has_ended_counts_and_is_no_reason_to_wait()
    {
        var brake = new Brake(1);
        Fail(brake, 0);
        for (var number = 1; number <= 10; number++) Assert.False(Fail(brake, number, isTrial: true));
        Assert.Equal(Blame.Event, brake.Failed(Event(11), Down, Nature.Trial | Nature.TooOld, At(100), 0.5));
        Assert.True(brake.IsOn && brake.NextTry <= At(100) + Brake.FirstPause);
    }

    [Fact]
    public void It_can_be_turned_off()
    {
        var brake = new Brake(0);
        for (var number = 0; number < 100; number++) Assert.True(Fail(brake, number));
        Assert.False(brake.IsOn);
    }

    [Fact]
    public void What_fails_around_an_event_counts_only_after_others_have_succeeded_between_a_few_times()
    {
        var doubts = new Doubts();
        for (var i = 0; i < 100; i++) Assert.False(doubts.Failed(Event(1)));
        var counted = 0;
        for (var i = 0; i < 10; i++)
        {
            doubts.Succeeded(Event(2));
            if (doubts.Failed(Event(1))) counted++;
        }
        Assert.Equal(10 - Doubts.Most + 1, counted);
        // It is forgotten once it has been handled.
        doubts.Succeeded(Event(1));
        Assert.True(doubts.IsEmpty);
        Assert.False(doubts.Failed(Event(1)));
    }

    /// <summary>Within any time no more begin than the rate allows, and one that is never idle uses it up.</summary>
    [Fact]
    public void A_rate_is_kept_to_and_used_up() =>
        Gen.Select(Gen.Double[0.5, 1000], Gen.Select(Gen.Int[1, 20], Gen.Double[0, 3]).Array[1, 50])
            .Sample((perSecond, takes) =>
            {
                var rate = new Rate(perSecond);
                var (now, begins) = (0.0, new List<(double At, int Count)>());
                foreach (var (count, idle) in takes)
                {
                    now += idle < 1 ? 0 : idle;
                    now += rate.Take(count, At(now)).TotalSeconds;
                    begins.Add((now, count));
                }
                for (var i = 0; i < begins.Count; i++)
                {
                    var sum = 0;
                    for (var j = i; j + 1 < begins.Count; j++)
                    {
                        sum += begins[j].Count;
                        var time = begins[j + 1].At - begins[i].At;
                        Assert.True(time + 1e-4 >= sum / perSecond, $"{sum} in {time} s at {perSecond}");
                    }
                }
            });
}
