using System.Globalization;
using GentleCourier.Servers;
using Npgsql;

namespace GentleCourier.Bench.Budgets;

/// <summary>Where the runs of an engine take place, each in fresh files or databases.</summary>
internal abstract class Place : IAsyncDisposable
{
    private static readonly double MicrosPerTick = 1_000_000.0 / 100;

    public static Place Of(string engine) => engine switch
    {
        "sqlite" => new FilePlace(),
        "postgres" => new ServerPlace(),
        _ => new BrokerPlace(),
    };

    /// <summary>A fresh place for one run of a half.</summary>
    public abstract Site Next(bool isBare);

    /// <summary>What the server has used and counted until now; nothing where there is none.</summary>
    public abstract Dictionary<string, double> Read();

    public abstract ValueTask DisposeAsync();

    /// <summary>
    /// Microseconds of the processor that a process and all that it has started and seen the end of have used.
    /// </summary>
    protected static double Processor(int id, bool withChildren)
    {
        var used = 0.0;
        foreach (var folder in Directory.EnumerateDirectories("/proc"))
        {
            if (!int.TryParse(Path.GetFileName(folder), out var process)) continue;
            try
            {
                // After the name, which may hold anything: state and parent first; later user and system time, and
                // the children's.
                var text = File.ReadAllText($"{folder}/stat");
                var words = text[(text.LastIndexOf(')') + 2)..].Split(' ');
                if (process == id) used += words[11..15].Sum(w => double.Parse(w, CultureInfo.InvariantCulture));
                else if (withChildren && words[1] == $"{id}")
                    used += words[11..13].Sum(w => double.Parse(w, CultureInfo.InvariantCulture));
            }
            catch (IOException)
            {
                // It has just ended.
            }
        }
        return used * MicrosPerTick;
    }

    private sealed class FilePlace : Place
    {
        private readonly string folder = Directory.CreateTempSubdirectory("courier-budget-").FullName;
        private int made;

        public override Site Next(bool isBare)
        {
            var run = Directory.CreateDirectory(Path.Combine(folder, $"{++made}")).FullName;
            return new($"sqlite:{run}/store.db", $"sqlite:{run}/inbox.db", $"sqlite:{run}/broker.db");
        }

        public override Dictionary<string, double> Read() => [];

        public override ValueTask DisposeAsync()
        {
            Directory.Delete(folder, recursive: true);
            return ValueTask.CompletedTask;
        }
    }

    private sealed class ServerPlace : Place
    {
        private readonly PrivatePostgres server = new(
            Directory.CreateTempSubdirectory("courier-budget-").FullName, "shared_buffers=512MB", "max_wal_size=4GB",
            "shared_preload_libraries=pg_stat_statements", "pg_stat_statements.track_utility=on");

        private readonly NpgsqlConnection connection;
        private int made;

        public ServerPlace()
        {
            Environment.SetEnvironmentVariable("PGPASSWORD", server.Password);
            connection = server.Open("postgres");
            Execute("CREATE EXTENSION pg_stat_statements");
        }

        public override Site Next(bool isBare)
        {
            made++;
            Execute("CHECKPOINT");
            Execute("SELECT pg_stat_statements_reset()");
            return new(server.Create($"store{made}"), server.Create($"inbox{made}"), server.Create($"broker{made}"));
        }

        public override Dictionary<string, double> Read()
        {
            var read = new Dictionary<string, double> { [Usage.Processor] = Processor(Postmaster, true) };
            using var command = new NpgsqlCommand(
                "SELECT query, sum(calls)::float8, 1000 * sum(total_exec_time + total_plan_time) "
                + "FROM pg_stat_statements JOIN pg_database d ON d.oid = dbid WHERE datname <> 'postgres' "
                + "GROUP BY query", connection);
            using (var reader = command.ExecuteReader())
            {
                while (reader.Read())
                {
                    var text = reader.GetString(0);
                    read[StatementCost.Calls + text] = reader.GetDouble(1);
                    read[StatementCost.Micros + text] = reader.GetDouble(2);
                }
            }
            read[Usage.Statements] = read.Where(r => r.Key.StartsWith(StatementCost.Calls, StringComparison.Ordinal))
                .Sum(r => r.Value);
            // Those that wrote: the server's own counter comes up to ten seconds late.
            read[Usage.Commits] = Ask("SELECT pg_snapshot_xmax(pg_current_snapshot())::text::float8");
            read["log, bytes"] = Ask("SELECT (pg_current_wal_lsn() - '0/0'::pg_lsn)::float8");
            return read;
        }

        public override async ValueTask DisposeAsync()
        {
            await connection.DisposeAsync();
            server.Dispose();
        }

        private int Postmaster => int.Parse(
            File.ReadLines(Path.Combine(server.Folder, "data", "postmaster.pid")).First(),
            CultureInfo.InvariantCulture);

        private double Ask(string sql)
        {
            using var command = new NpgsqlCommand(sql, connection);
            return (double)command.ExecuteScalar()!;
        }

        private void Execute(string sql)
        {
            using var command = new NpgsqlCommand(sql, connection);
            command.ExecuteNonQuery();
        }
    }

    /// <summary>Queues at a message broker, stores in files.</summary>
    private sealed class BrokerPlace : Place
    {
        private readonly PrivateAmqp broker = new(Directory.CreateTempSubdirectory("courier-budget-").FullName);
        private readonly FilePlace files = new();
        private bool isMade;

        public override Site Next(bool isBare)
        {
            if (!isMade) broker.Create("taps");
            isMade = true;
            return files.Next(isBare) with
            {
                Broker = broker.Address + (isBare ? "" : "/?queue=/amq/queue/{queue}"),
            };
        }

        public override Dictionary<string, double> Read() => new()
        {
            [Usage.Processor] = Processor(
                int.Parse(File.ReadAllText(Path.Combine(broker.Folder, "pid")), CultureInfo.InvariantCulture), false),
        };

        public override async ValueTask DisposeAsync()
        {
            await files.DisposeAsync();
            broker.Dispose();
        }
    }
}
