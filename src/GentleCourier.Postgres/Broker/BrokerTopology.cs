using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>The queues of each wire type, as they were in one version of the topology.</summary>
internal sealed record Routes(
    long Version, IReadOnlyDictionary<string, long[]> Queues, bool AnyInKeyOrder, string Generation);

/// <summary>Queues and routes of a broker.</summary>
internal sealed class BrokerTopology(PostgresServer server, BrokerStatements sql)
{
    public async Task<Topology> ReadAsync(CancellationToken cancellationToken)
    {
        var (queues, inKeyOrder) = (new List<string>(), new List<string>());
        var routes = new List<Route>();
        await server.RunAsync(
            "read",
            new RoundTrip().Add(sql.Queues, AddQueue)
                .Add(sql.NamedRoutes, row => routes.Add(new Route(row.GetString(0), row.GetString(1)))),
            cancellationToken).ConfigureAwait(false);
        return new Topology(queues, routes) { InKeyOrder = inKeyOrder };

        void AddQueue(NpgsqlDataReader row)
        {
            queues.Add(row.GetString(0));
            if (row.GetBoolean(1)) inKeyOrder.Add(row.GetString(0));
        }
    }

    public async Task<Routes> ReadRoutesAsync(CancellationToken cancellationToken)
    {
        var (version, anyInKeyOrder, generation) = (0L, false, "");
        var found = new List<(string Type, long Queue)>();
        await server.RunAsync("read", new RoundTrip().Add(sql.Routes, Read), cancellationToken).ConfigureAwait(false);
        return new Routes(version, found.GroupBy(r => r.Type, r => r.Queue, StringComparer.Ordinal).ToDictionary(
            g => g.Key, g => g.ToArray(), StringComparer.Ordinal), anyInKeyOrder, generation);

        void Read(NpgsqlDataReader row)
        {
            (version, generation) = (row.GetInt64(0), row.GetString(4));
            if (row.IsDBNull(1)) return;
            found.Add((row.GetString(1), row.GetInt32(2)));
            anyInKeyOrder |= row.GetBoolean(3);
        }
    }

    public async Task PrepareAsync(Topology wanted, bool create, CancellationToken cancellationToken)
    {
        var there = await ReadAsync(cancellationToken).ConfigureAwait(false);
        string[] queues = [.. wanted.Queues.Except(there.Queues)];
        Route[] routes = [.. wanted.Routes.Except(there.Routes)];
        string[] inKeyOrder = [.. wanted.InKeyOrder.Except(there.InKeyOrder)];
        if (queues.Length + routes.Length + inKeyOrder.Length == 0) return;
        if (!create)
        {
            throw queues.Length + routes.Length > 0 ? Missing(queues, routes, there.Queues)
                : BrokerProblems.NotInKeyOrder(server.DisplayName, inKeyOrder);
        }

        FaultPoint.Pass(FaultPoint.TopologyNotCommitted);
        // The version first of all, so that several take turns.
        var trip = new RoundTrip().Add(sql.ChangeTopology).Add(sql.AddQueues, Parameter.Of(queues));
        if (inKeyOrder.Length > 0) trip.Add(sql.PutInKeyOrder, Parameter.Of(inKeyOrder));
        trip.Add(
            sql.AddRoutes, Parameter.Of(Array.ConvertAll(routes, r => (string?)r.Type)),
            Parameter.Of(Array.ConvertAll(routes, r => (string?)r.Queue)));
        await server.RunAsync("make queues in", trip, cancellationToken).ConfigureAwait(false);
    }

    public async Task<int> IdOfAsync(string queue, CancellationToken cancellationToken)
    {
        int? id = null;
        await server.RunAsync("read", new RoundTrip().Add(
            sql.QueueId, row => id = row.GetInt32(0), Parameter.Of(queue)), cancellationToken).ConfigureAwait(false);
        return id ?? throw Missing([queue], [], (await ReadAsync(cancellationToken).ConfigureAwait(false)).Queues);
    }

    private CourierException Missing(string[] queues, Route[] routes, IReadOnlyCollection<string>? known) =>
        BrokerProblems.Missing(server.DisplayName, queues, routes, known);
}
