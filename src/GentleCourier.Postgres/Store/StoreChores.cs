using System.Globalization;
using GentleCourier.Engines;

namespace GentleCourier.Postgres;

/// <summary>What a store clears away, a step at a time. Thread-safe.</summary>
internal sealed class StoreChores(PostgresServer server, StoreStatements sql)
{
    // Each takes a few milliseconds.
    private const int PagesAStep = 32, RowsAStep = 500, NamesAStep = 1_000;
    private const string Names = "names behind ";

    public Task<ChoreStep> DoAsync(Chore chore, string? from, CancellationToken cancellationToken) => chore.Kind switch
    {
        ChoreKind.Inbox when from?.StartsWith(Names, StringComparison.Ordinal) == true =>
            ForgetNamesAsync(chore, from[Names.Length..], cancellationToken),
        ChoreKind.Inbox => ForgetAsync(chore, from, cancellationToken),
        ChoreKind.Refused => ClearRefusedAsync(chore, cancellationToken),
        _ => throw new ArgumentException($"a store does not do {chore.Name}", nameof(chore)),
    };

    private async Task<ChoreStep> ForgetAsync(Chore chore, string? from, CancellationToken cancellationToken)
    {
        var page = from is null ? 0 : long.Parse(from, CultureInfo.InvariantCulture);
        var (removed, pages) = (0, 0L);
        // That it may be forgotten is written down with it. A crash of the server that undoes it undoes both.
        await server.RunAsync(
            "clear the inbox of",
            new RoundTrip().NeedNotSurvive()
                .Add(sql.Forgetting, server.Now, Parameter.Of(chore.Name), Parameter.Of((TimeSpan?)chore.Keep))
                .Add(sql.ForgetHandled, row => (removed, pages) = (row.GetInt32(0), row.GetInt64(1)), server.Now,
                    Parameter.Of((TimeSpan?)chore.Keep), Parameter.Of(page), Parameter.Of(page + PagesAStep)),
            cancellationToken).ConfigureAwait(false);
        var next = page + PagesAStep;
        return new(removed, next < pages ? Text(next) : Names + Text(long.MinValue));
    }

    /// <summary>After the events: names that none of them has, and that nobody uses.</summary>
    private async Task<ChoreStep> ForgetNamesAsync(Chore chore, string after, CancellationToken cancellationToken)
    {
        var (looked, last) = (0, 0L);
        await server.RunAsync(
            "clear the names in the inbox of",
            new RoundTrip().NeedNotSurvive().Add(
                sql.ForgetNames, row => (looked, last) = (row.GetInt32(0), row.IsDBNull(1) ? 0 : row.GetInt64(1)),
                server.Now, Parameter.Of((TimeSpan?)(chore.Keep + 2 * InboxOrigins.Every)),
                Parameter.Of(long.Parse(after, CultureInfo.InvariantCulture)), Parameter.Of(NamesAStep)),
            cancellationToken).ConfigureAwait(false);
        return new(0, looked == NamesAStep ? Names + Text(last) : null);
    }

    private static string Text(long place) => place.ToString(CultureInfo.InvariantCulture);

    private async Task<ChoreStep> ClearRefusedAsync(Chore chore, CancellationToken cancellationToken)
    {
        var removed = 0;
        await server.RunAsync(
            "clear away what is old in",
            new RoundTrip().Add(
                sql.ClearRefused, _ => removed++, server.Now, Parameter.Of((TimeSpan?)chore.Keep),
                Parameter.Of(RowsAStep)),
            cancellationToken).ConfigureAwait(false);
        return new(removed, removed == RowsAStep ? "" : null);
    }
}
