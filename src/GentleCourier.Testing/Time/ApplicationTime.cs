using System.Collections.Concurrent;
using System.Diagnostics;

namespace GentleCourier.Testing;

/// <summary>
/// What services do by themselves, beside the library: nobody can tell whether it still goes on, but for the timers
/// that it sets and the events that it publishes. So it is given time. One call at a time.
/// </summary>
internal sealed class ApplicationTime(TrialClock clock, Sight sight)
{
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(3), Usual = TimeSpan.FromMilliseconds(250),
        WhenCold = TimeSpan.FromSeconds(2), WhenSilent = TimeSpan.FromMilliseconds(10);

    // After so many times in a row in which nothing was seen, nothing is expected.
    private const int Silence = 8;

    // What has run in this process before has been compiled.
    private static readonly ConcurrentDictionary<Type, bool> Warm = new();

    private readonly HashSet<TrialService> known = [];
    private readonly HashSet<Type> cold = [];
    private int silent;

    /// <summary>Services have started: what they run besides has begun, and waits for the clock.</summary>
    public async Task BeginAsync(IReadOnlyList<TrialService> services, CancellationToken cancellationToken)
    {
        var others = services.Where(known.Add).SelectMany(service => service.OthersHosted).ToList();
        cold.UnionWith(others.Where(type => !Warm.ContainsKey(type)));
        if (others.Count > 0)
            await WaitAsync(() => clock.Set >= others.Count, cancellationToken).ConfigureAwait(false);
    }

    /// <summary>
    /// Timers of theirs have fired: whoever waited for one sets it anew, or publishes something, or has had the time
    /// for whatever it does.
    /// </summary>
    public async Task LetGoOnAsync(long set, CancellationToken cancellationToken)
    {
        var version = sight.Version;
        await WaitAsync(() => clock.Set >= set || sight.Version != version, cancellationToken).ConfigureAwait(false);
        foreach (var type in cold) Warm[type] = true;
        cold.Clear();
    }

    private async Task WaitAsync(Func<bool> isSeen, CancellationToken cancellationToken)
    {
        var began = Stopwatch.GetTimestamp();
        var limit = cold.Count > 0 ? WhenCold : silent < Silence ? Usual : WhenSilent;
        while (!isSeen() && Stopwatch.GetElapsedTime(began) < limit)
            await Task.Delay(Look, cancellationToken).ConfigureAwait(false);
        silent = isSeen() ? 0 : silent + 1;
    }
}
