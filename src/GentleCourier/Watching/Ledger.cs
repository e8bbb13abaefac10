namespace GentleCourier.Watching;

/// <summary>
/// The proof of account of one queue: published = handled + waiting + set aside, event by event. Pure computation.
/// </summary>
/// <param name="Published">Events that the queue should have got.</param>
/// <param name="Handled">Of these, handled in effect.</param>
/// <param name="Waiting">Of these, still to be handled.</param>
/// <param name="DeadLetters">Of these, set aside with a reason.</param>
/// <param name="DuplicatesAbsorbed">Further copies that came and had no effect.</param>
/// <param name="Missing">Published, and found nowhere: lost.</param>
/// <param name="Unexpected">
/// Handled, waiting or set aside without having been published, or both handled and set aside, or handled twice.
/// </param>
internal sealed record Ledger(
    int Published,
    int Handled,
    int Waiting,
    int DeadLetters,
    int DuplicatesAbsorbed,
    IReadOnlyList<string> Missing,
    IReadOnlyList<string> Unexpected)
{
    /// <summary>Whether every event is accounted for, once.</summary>
    public bool Balances =>
        Missing.Count == 0 && Unexpected.Count == 0 && Published == Handled + Waiting + DeadLetters;

    /// <summary>
    /// Draws up the account. Ids identify events; give <c>source</c> and id together where several services publish.
    /// A copy that still waits of an event that has been handled or set aside is a duplicate on its way, not a
    /// second event.
    /// </summary>
    /// <param name="published">Ids that were published; a repeated one counts once.</param>
    /// <param name="handled">An id for each effect: the same id twice is an effect that was had twice.</param>
    /// <param name="waiting">Ids of copies that wait, are in hand or come later.</param>
    /// <param name="deadLetters">Ids of copies that were set aside.</param>
    /// <param name="duplicatesAbsorbed">Further copies that came and had no effect.</param>
    public static Ledger Balance(
        IEnumerable<string> published,
        IEnumerable<string> handled,
        IEnumerable<string> waiting,
        IEnumerable<string> deadLetters,
        int duplicatesAbsorbed)
    {
        ArgumentNullException.ThrowIfNull(published);
        ArgumentNullException.ThrowIfNull(handled);
        ArgumentNullException.ThrowIfNull(waiting);
        ArgumentNullException.ThrowIfNull(deadLetters);

        var due = published.ToHashSet(StringComparer.Ordinal);
        var unexpected = new SortedSet<string>(StringComparer.Ordinal);

        var done = new HashSet<string>(StringComparer.Ordinal);
        foreach (var id in handled)
            if (!done.Add(id)) unexpected.Add(id);

        var aside = deadLetters.ToHashSet(StringComparer.Ordinal);
        unexpected.UnionWith(aside.Where(done.Contains));
        aside.ExceptWith(done);

        var toCome = waiting.ToHashSet(StringComparer.Ordinal);
        toCome.ExceptWith(done);
        toCome.ExceptWith(aside);

        unexpected.UnionWith(done.Concat(aside).Concat(toCome).Where(id => !due.Contains(id)));
        var missing = due.Where(id => !done.Contains(id) && !aside.Contains(id) && !toCome.Contains(id));

        return new Ledger(
            due.Count,
            done.Count(due.Contains),
            toCome.Count(due.Contains),
            aside.Count(due.Contains),
            duplicatesAbsorbed,
            [.. missing.Order(StringComparer.Ordinal)],
            [.. unexpected]);
    }

    /// <summary>The accounts of several queues in one; ids of events are prefixed with the queue's name.</summary>
    public static Ledger Sum(IEnumerable<KeyValuePair<string, Ledger>> queues)
    {
        ArgumentNullException.ThrowIfNull(queues);
        var all = queues.ToList();
        return new Ledger(
            all.Sum(q => q.Value.Published),
            all.Sum(q => q.Value.Handled),
            all.Sum(q => q.Value.Waiting),
            all.Sum(q => q.Value.DeadLetters),
            all.Sum(q => q.Value.DuplicatesAbsorbed),
            [.. all.SelectMany(q => q.Value.Missing.Select(id => $"{q.Key}: {id}"))],
            [.. all.SelectMany(q => q.Value.Unexpected.Select(id => $"{q.Key}: {id}"))]);
    }
}
