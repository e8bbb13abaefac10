using GentleCourier.Engines;

namespace GentleCourier.Tables;

/// <summary>
/// Where a store's relay routes events, for a broker that does not know it itself. Whoever looks at such a broker
/// learns here of queues that nobody receives from.
/// </summary>
internal sealed class RouteTable(ITables tables)
{
    public async Task<IReadOnlyList<Route>> ReadAsync(CancellationToken cancellationToken = default)
    {
        var routes = new List<Route>();
        await tables.RunAsync(
            new Statements("read").Read(
                $"SELECT type, queue FROM courier.relay_route ORDER BY type, queue",
                row => routes.Add(new Route(row.Text(0), row.Text(1)))),
            null, cancellationToken).ConfigureAwait(false);
        return routes;
    }

    /// <summary>Writes down what holds from now on; nothing, where it is so already.</summary>
    public async Task WriteAsync(IReadOnlyCollection<Route> routes, CancellationToken cancellationToken = default)
    {
        if ((await ReadAsync(cancellationToken).ConfigureAwait(false)).ToHashSet().SetEquals(routes)) return;
        var statements = new Statements("write the routes of").Write($"DELETE FROM courier.relay_route");
        foreach (var (type, queue) in routes)
            statements.Write(
                $"INSERT INTO courier.relay_route (type, queue) VALUES ({type}, {queue}) ON CONFLICT DO NOTHING");
        await tables.RunAsync(statements, null, cancellationToken).ConfigureAwait(false);
    }
}
