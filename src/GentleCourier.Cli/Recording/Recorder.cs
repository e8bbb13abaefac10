using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>
/// Turns one look after another into rows that say what has changed. It knows what it has said before; one that begins
/// says everything. Pure.
/// </summary>
internal sealed class Recorder(TimeSpan every)
{
    private readonly Dictionary<(RowKind, string), Row> said = [];
    private readonly Dictionary<string, string> versions = new(StringComparer.Ordinal);
    private HashSet<(string Code, string Subject)> findings = [];
    private DateTime day;

    public IReadOnlyList<Row> RowsOf(CourierStatus status, DateTimeOffset at)
    {
        var rows = new List<Row>();
        if (day == default)
            rows.Add(new Row(at, RowKind.Start, status.Broker?.Broker ?? "") { EverySeconds = every.TotalSeconds });
        // A file tells its day by itself.
        var isNewDay = at.UtcDateTime.Date != day;
        day = at.UtcDateTime.Date;
        Row[] now = [.. status.Queues.Select(q => QueueRow(q, at)), .. status.Stores.Select(s => OutboxRow(s, at))];
        rows.AddRange(now.Concat(Unknown(now, status, at)).Where(row => IsNews(row) || isNewDay));
        rows.AddRange(Findings(status, at, isNewDay));
        rows.AddRange(Deployments(status, at));
        // Last: what is not closed by it was cut short.
        if (status.Broker is { } broker)
            rows.Add(new Row(at, RowKind.Look, broker.Broker) { EverySeconds = every.TotalSeconds });
        return rows;
    }

    private static Row QueueRow(QueueStatus q, DateTimeOffset at)
    {
        QueueCounts? counts = q.Figures.History is [.., var last] ? last : null;
        return new Row(at, RowKind.Queue, q.Figures.Queue)
        {
            Ready = q.Figures.Ready, InHand = q.Figures.InHand, Scheduled = q.Figures.Scheduled,
            DeadLetters = q.Figures.DeadLetters,
            OldestSeconds = q.Figures.Waiting == 0 ? 0 : Seconds(q.Figures.OldestAge),
            Came = counts?.Came, Handled = counts?.Accepted, Failed = counts?.Failed, SetAside = counts?.SetAside,
            Workers = q.Receivers?.Count, Handlers = q.Receivers?.Sum(r => r.Parallel),
            Busy = q.Utilisation is { } busy ? Math.Round(busy, 2) : null,
        };
    }

    private static Row OutboxRow(StoreFigures store, DateTimeOffset at) => new(at, RowKind.Outbox, store.Store)
    {
        Ready = store.Outbox.Waiting, Scheduled = store.Outbox.Held, DeadLetters = store.Outbox.Refused,
        OldestSeconds = store.Outbox.Waiting == 0 ? 0 : Seconds(store.Outbox.OldestAge),
    };

    /// <summary>What could be asked before, and now could not: nothing is known of it.</summary>
    private List<Row> Unknown(Row[] now, CourierStatus status, DateTimeOffset at)
    {
        var known = now.Select(r => (r.Kind, r.Name)).ToHashSet();
        return [.. said.Keys.Where(k => !known.Contains(k) && (k.Item1 == RowKind.Outbox || status.Broker is not null))
            .Select(k => new Row(at, k.Item1, k.Item2))];
    }

    private static double? Seconds(TimeSpan? age) => age is { } known ? Math.Round(known.TotalSeconds, 1) : null;

    private bool IsNews(Row row)
    {
        var isNews = !said.TryGetValue((row.Kind, row.Name), out var before) || before with { Time = row.Time } != row;
        if (isNews) said[(row.Kind, row.Name)] = row;
        return isNews;
    }

    /// <summary>Their evidence has other numbers each time: what was said first stands.</summary>
    private Row[] Findings(CourierStatus status, DateTimeOffset at, bool isNewDay)
    {
        var now = status.Findings.DistinctBy(f => (f.Code, f.Subject))
            .ToDictionary(f => (f.Code, f.Subject), f => f.What);
        Row[] rows =
        [
            .. now.Where(f => isNewDay || !findings.Contains(f.Key))
                .Select(f => OfFinding(RowKind.Found, f.Key, f.Value)),
            .. findings.Where(f => !now.ContainsKey(f)).Select(f => OfFinding(RowKind.Over, f, "")),
        ];
        findings = [.. now.Keys];
        return rows;

        Row OfFinding(RowKind kind, (string Code, string Subject) finding, string text) =>
            new(at, kind, $"{finding.Code} {finding.Subject}".TrimEnd()) { Text = text };
    }

    private IEnumerable<Row> Deployments(CourierStatus status, DateTimeOffset at)
    {
        foreach (var queue in (status.Broker?.Workers ?? [])
            .SelectMany(w => w.Receivers, (w, r) => (r.Queue, w.Version)).GroupBy(w => w.Queue, w => w.Version))
        {
            var running = string.Join(", ", queue.Distinct().Order(StringComparer.Ordinal));
            var before = versions.GetValueOrDefault(queue.Key);
            versions[queue.Key] = running;
            if (before is not null && before != running)
                yield return new Row(at, RowKind.Deployment, queue.Key) { Text = $"{before} → {running}" };
        }
    }
}
