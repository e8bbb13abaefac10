using System.Globalization;
using GentleCourier.Engines;

namespace GentleCourier.Postgres;

/// <summary>What a store clears away, a step at a time. Thread-safe.</summary>
internal sealed class StoreChores(PostgresServer server, StoreStatements sql)
{
    // Each takes a few milliseconds.
    private const int PagesAStep = 32, RowsAStep = 500;

    public Task<ChoreStep> DoAsync(Chore chore, string? from, CancellationToken cancellationToken) => chore.Kind switch
    {
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
        return new(removed, next < pages ? next.ToString(CultureInfo.InvariantCulture) : null);
    }

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
