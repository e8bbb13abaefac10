namespace GentleCourier.Postgres;

/// <summary>
/// Tells other processes what has changed: after the commit and in a transaction of its own, since one that announces
/// keeps others that do from committing. The first goes at once; while it is on its way, and for a moment longer, the
/// next ones gather. Thread-safe.
/// </summary>
/// <param name="server">Whom to tell.</param>
/// <param name="say">Adds the announcement of what has changed.</param>
internal sealed class Announcer(PostgresServer server, Func<RoundTrip, int[], RoundTrip> say) : IAsyncDisposable
{
    private static readonly TimeSpan LongestFarewell = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan Rest = TimeSpan.FromMilliseconds(20);
    // Under a steady stream whoever is told is awake already, and one for each commit would cost as much as a save.
    private static readonly TimeSpan Gathering = TimeSpan.FromMilliseconds(5);

    private readonly Lock gate = new();
    private HashSet<int> gathered = [];
    private Task announcing = Task.CompletedTask;
    private long latest;

    /// <summary>Whether nothing has been announced for a while.</summary>
    public bool HasRested => Environment.TickCount64 - Volatile.Read(ref latest) > Rest.TotalMilliseconds;

    /// <summary>Something has been announced by other means.</summary>
    public void Announced() => Volatile.Write(ref latest, Environment.TickCount64);

    public void Announce(int changed)
    {
        Announced();
        lock (gate)
        {
            gathered.Add(changed);
            if (announcing.IsCompleted) announcing = Task.Run(AnnounceAsync);
        }
    }

    /// <summary>Sends what has gathered.</summary>
    public async ValueTask DisposeAsync()
    {
        Task last;
        lock (gate) last = announcing;
        await last.WaitAsync(LongestFarewell).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    private async Task AnnounceAsync()
    {
        while (true)
        {
            HashSet<int> changes;
            lock (gate)
            {
                if (gathered.Count == 0)
                {
                    // Under the lock, so that whoever adds next begins anew.
                    announcing = Task.CompletedTask;
                    return;
                }
                (changes, gathered) = (gathered, []);
            }
            try
            {
                await server.RunAsync("announce a change in", say(new RoundTrip().NeedNotSurvive(), [.. changes]),
                    CancellationToken.None).ConfigureAwait(false);
            }
            catch (CourierException)
            {
                // Whoever waits looks by itself, a little later.
            }
            await Task.Delay(Gathering).ConfigureAwait(false);
        }
    }
}
