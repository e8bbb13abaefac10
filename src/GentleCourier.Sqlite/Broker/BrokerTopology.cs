using GentleCourier.Engines;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace GentleCourier.Sqlite;

/// <summary>Queues and routes of a broker.</summary>
internal static class BrokerTopology
{
    public static Topology Read(SqliteConnection connection)
    {
        var queues = new List<string>();
        using (var statement = new Statement(connection, "SELECT name FROM courier_queue ORDER BY name"))
            while (statement.Step()) queues.Add(statement.Text(0)!);

        var routes = new List<Route>();
        using (var statement = new Statement(connection,
            "SELECT r.type, q.name FROM courier_route r JOIN courier_queue q ON q.id = r.queue ORDER BY 1, 2"))
            while (statement.Step()) routes.Add(new Route(statement.Text(0)!, statement.Text(1)!));

        return new Topology(queues, routes);
    }

    public static bool Prepare(SqliteConnection connection, SqliteFile file, Topology wanted, bool create)
    {
        var there = Read(connection);
        var queues = wanted.Queues.Except(there.Queues).ToList();
        var routes = wanted.Routes.Except(there.Routes).ToList();
        if (queues.Count == 0 && routes.Count == 0) return false;
        if (!create) throw BrokerProblems.Missing(file.DisplayName, queues, routes, null);

        SqliteFile.Execute(connection, "BEGIN IMMEDIATE");
        try
        {
            using (var add = new Statement(
                connection, "INSERT INTO courier_queue (name) VALUES (?) ON CONFLICT DO NOTHING"))
                foreach (var queue in queues) add.Bind(1, queue).Run();
            using (var add = new Statement(connection,
                "INSERT INTO courier_route SELECT ?, id FROM courier_queue WHERE name = ? ON CONFLICT DO NOTHING"))
                foreach (var route in routes) add.Bind(1, route.Type).Bind(2, route.Queue).Run();
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

    public static long IdOf(SqliteConnection connection, SqliteFile file, string queue)
    {
        using var find = new Statement(connection, "SELECT id FROM courier_queue WHERE name = ?");
        return find.Bind(1, queue).Scalar()
            ?? throw BrokerProblems.Missing(file.DisplayName, [queue], [], Read(connection).Queues);
    }
}
