using CsCheck;

namespace GentleCourier.Testing.Tests;

public sealed class TrialClockTests
{
    private static readonly DateTimeOffset Start = new(2031, 6, 14, 12, 0, 0, TimeSpan.Zero);

    /// <summary>Whatever is set, changed and let go: each that is due by then has fired, once, and no other.</summary>
    [Fact]
    public void Each_timer_fires_when_its_time_has_come_and_once_a_move() =>
        Gen.Select(Gen.Int[0, 50], Gen.Int[0, 3], Gen.Int[0, 20]).List[1, 20]
            .Select(Gen.Int[1, 30].List[1, 10])
            .Sample((timers, moves) =>
            {
                var clock = new TrialClock(Start);
                var fired = new int[timers.Count];
                using var done = new CountdownEvent(1);
                var expected = new int[timers.Count];
                var made = timers.Select((t, i) =>
                {
                    var (due, what, period) = t;
                    // What is due at once fires when it is made.
                    if (what != 3 && due == 0) Expect(i);
                    return clock.Application.CreateTimer(_ =>
                    {
                        Interlocked.Increment(ref fired[i]);
                        done.Signal();
                    }, null, what == 3 ? Timeout.InfiniteTimeSpan : TimeSpan.FromSeconds(due),
                        TimeSpan.FromSeconds(what == 1 ? period : 0));
                }).ToList();
                var next = timers.Select(t => t.Item2 == 3 ? int.MaxValue
                    : t.Item1 > 0 ? t.Item1 : t.Item2 == 1 && t.Item3 > 0 ? t.Item3 : int.MaxValue).ToArray();
                var now = 0;
                foreach (var move in moves)
                {
                    now += move;
                    for (var i = 0; i < timers.Count; i++)
                    {
                        if (next[i] > now) continue;
                        Expect(i);
                        next[i] = timers[i] is { Item2: 1, Item3: > 0 and var period } ? now + period : int.MaxValue;
                    }
                    Assert.True(clock.MoveTo(Start.AddSeconds(now)));
                    Assert.Equal(Start.AddSeconds(now), clock.Now);
                }
                done.Signal();
                Assert.True(done.Wait(TimeSpan.FromMinutes(2)), "not all have fired");
                Assert.Equal(expected, fired);
                made.ForEach(t => t.Dispose());
                Assert.Null(clock.Next(clock.Application));

                void Expect(int i)
                {
                    expected[i]++;
                    done.AddCount();
                }
            }, iter: 500);

    [Fact]
    public void It_does_not_move_while_it_is_held_nor_back()
    {
        var clock = new TrialClock(Start);
        clock.Hold();
        Assert.False(clock.MoveTo(Start.AddDays(1)));
        clock.Release();
        Assert.True(clock.MoveTo(Start.AddDays(1)));
        Assert.True(clock.MoveTo(Start));
        Assert.Equal(Start.AddDays(1), clock.Now);
        clock.Hold();
        clock.Free();
        Assert.True(clock.MoveTo(Start.AddDays(2)));
    }

    [Fact]
    public async Task The_frameworks_own_waits_go_by_it()
    {
        var clock = new TrialClock(Start);
        var delay = Task.Delay(TimeSpan.FromDays(30), clock.Application);
        using var source = new CancellationTokenSource(TimeSpan.FromHours(1), clock.Application);
        using var periodic = new PeriodicTimer(TimeSpan.FromMinutes(1), clock.Library);
        var tick = periodic.WaitForNextTickAsync().AsTask();
        Assert.Equal(Start.AddHours(1), clock.Next(clock.Application));
        Assert.Null(clock.Next(clock.Library));
        using var ticks = new PeriodicTimer(TimeSpan.FromSeconds(5), clock.Application);
        Assert.Equal(Start.AddSeconds(5), clock.Next(clock.Application));
        clock.MoveTo(Start.AddHours(2));
        Assert.True(await tick);
        await Task.Delay(Timeout.Infinite, source.Token).ContinueWith(_ => { }, TaskScheduler.Default);
        Assert.False(delay.IsCompleted);
        clock.MoveTo(Start.AddDays(30));
        await delay;
        Assert.Equal(TimeSpan.FromDays(30), clock.Application.GetElapsedTime(TimeSpan.FromHours(1).Ticks));
    }
}
