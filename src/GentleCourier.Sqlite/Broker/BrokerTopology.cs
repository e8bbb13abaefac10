using GentleCourier.Engines;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace GentleCourier.Sqlite;

/// <summary>Queues and routes of a broker.</summary>
internal static class BrokerTopology
{
    public static Topology Read(SqliteConnection connection)
    {
        var (queues, inKeyOrder) = (new List<string>(), new List<string>());
        using (var statement = Statement.On(connection, "SELECT name, in_key_order FROM courier_queue ORDER BY name"))
        {
            while (statement.Step())
            {
                queues.Add(statement.Text(0)!);
                if (statement.Int64(1) != 0) inKeyOrder.Add(statement.Text(0)!);
            }
        }

        var routes = new List<Route>();
        using (var statement = Statement.On(connection,
            "SELECT r.type, q.name FROM courier_route r JOIN courier_queue q ON q.id = r.queue ORDER BY 1, 2"))
            while (statement.Step()) routes.Add(new Route(statement.Text(0)!, statement.Text(1)!));

        return new Topology(queues, routes) { InKeyOrder = inKeyOrder };
    }

    public static bool Prepare(SqliteConnection connection, SqliteFile file, Topology wanted, bool create)
    {
        var there = Read(connection);
        var queues = wanted.Queues.Except(there.Queues).ToList();
        var routes = wanted.Routes.Except(there.Routes).ToList();
        var inKeyOrder = wanted.InKeyOrder.Except(there.InKeyOrder).ToList();
        if (queues.Count + routes.Count + inKeyOrder.Count == 0) return false;
        if (!create)
        {
            throw queues.Count + routes.Count > 0
                ? BrokerProblems.Missing(file.DisplayName, queues, routes, there.Queues)
                : BrokerProblems.NotInKeyOrder(file.DisplayName, inKeyOrder);
        }

        SqliteFile.Execute(connection, "BEGIN IMMEDIATE");
        try
        {
            using (var add = Statement.On(
                connection, "INSERT INTO courier_queue (name) VALUES (?) ON CONFLICT DO NOTHING"))
                foreach (var queue in queues) add.Bind(1, queue).Run();
            using (var add = Statement.On(connection,
                "INSERT INTO courier_route SELECT ?, id FROM courier_queue WHERE name = ? ON CONFLICT DO NOTHING"))
                foreach (var route in routes) add.Bind(1, route.Type).Bind(2, route.Queue).Run();
            foreach (var queue in inKeyOrder) PutInKeyOrder(connection, queue);
            SqliteFile.Execute(connection, "UPDATE courier_topology SET version = version + 1");
            FaultPoint.Pass(FaultPoint.TopologyNotCommitted);
            SqliteFile.Execute(connection, "COMMIT");
            return true;
        }
        catch
        {
            raw.sqlite3_exec(connection.Handle, "ROLLBACK");
            throw;
        }
    }

    /// <summary>
    /// What is there already gets keys of its own: its order is not kept. What waits gets them when it is handed over,
    /// a few at a time: there may be a million of it.
    /// </summary>
    private static void PutInKeyOrder(SqliteConnection connection, string queue)
    {
        const string Of = "WHERE queue = (SELECT id FROM courier_queue WHERE name = ?)";
        foreach (var sql in new[]
        {
            "UPDATE courier_queue SET in_key_order = 1, keyless_from = (SELECT min(due) FROM courier_place "
                + "WHERE queue = courier_queue.id) WHERE name = ?",
            $"UPDATE courier_lease SET key = char(1) || printf('%020d', copy) {Of} AND key IS NULL",
        })
        {
            using var statement = Statement.On(connection, sql);
            statement.Bind(1, queue).Run();
        }
    }

    public static long IdOf(SqliteConnection connection, SqliteFile file, string queue)
    {
        using var find = Statement.On(connection, "SELECT id FROM courier_queue WHERE name = ?");
        return find.Bind(1, queue).Scalar()
            ?? throw BrokerProblems.Missing(file.DisplayName, [queue], [], Read(connection).Queues);
    }
}
