using Dapper;

namespace GentleCourier.Testing.Tests;

/// <summary>Databases of their own on a server.</summary>
public sealed class TrialServerTests
{
    private static Task<IEnumerable<string>> DatabasesAsync()
    {
        using var connection = Servers.Postgres.Open("postgres");
        return Task.FromResult(connection.Query<string>(
            @"SELECT datname FROM pg_database WHERE datname LIKE 'courier\_trial\_%'"));
    }

    [Fact]
    public async Task Migrations_run_once_and_each_trial_has_a_copy_of_its_own()
    {
        var migrated = 0;
        await using var server = new TrialServer($"{Servers.Postgres.Address}/postgres")
        {
            Migrate = async (service, connectionString, cancel) =>
            {
                if (service != "fares") return;
                Interlocked.Increment(ref migrated);
                await using var connection = new Npgsql.NpgsqlConnection(connectionString);
                await connection.ExecuteAsync(new CommandDefinition(
                    "CREATE TABLE charge (card TEXT, cents INTEGER); INSERT INTO charge VALUES ('card-0', 1)",
                    cancellationToken: cancel));
            },
        };
        var charges = await Task.WhenAll(Enumerable.Range(0, 3).Select(async i =>
        {
            await using var trial = new Trial(new TrialOptions { Server = server });
            await trial.ReceivedElsewhereAsync<CardCharged>();
            var fares = await trial.StartAsync("fares", Services.Fares());
            await fares.BoardAsync($"card-{i}", i);
            await trial.RunUntilIdleAsync();
            return await fares.Services.ChargesAsync();
        }));
        Assert.Equal(1, migrated);
        for (var i = 0; i < charges.Length; i++)
            Assert.Equal(new[] { ("card-0", 1), ($"card-{i}", i) }.Order(), charges[i].Order());
    }

    [Fact]
    public async Task A_trial_takes_few_connections_and_removes_its_databases()
    {
        await using var server = new TrialServer($"{Servers.Postgres.Address}/postgres");
        string prefix;
        await using (var trial = new Trial(new TrialOptions { Server = server }))
        {
            await trial.ReceivedElsewhereAsync<CardCharged>();
            var fares = await trial.StartAsync("fares", Services.Fares());
            for (var i = 0; i < 20; i++) await fares.BoardAsync($"card-{i}");
            await trial.RunUntilIdleAsync();
            var place = new Npgsql.NpgsqlConnectionStringBuilder(
                fares.Services.GetRequiredService<IStore>().ConnectionString).Database!;
            prefix = place[..place.LastIndexOf('_')];
            using var connection = Servers.Postgres.Open("postgres");
            var taken = connection.ExecuteScalar<int>(
                "SELECT count(*) FROM pg_stat_activity WHERE starts_with(datname, @prefix)", new { prefix });
            Assert.InRange(taken, 1, 16);
        }
        // The templates stay as long as the server's object.
        Assert.All((await DatabasesAsync()).Where(d => d.StartsWith(prefix, StringComparison.Ordinal)),
            d => Assert.Matches("_t[0-9]+$", d));
        await server.DisposeAsync();
        Assert.DoesNotContain(await DatabasesAsync(), d => d.StartsWith(prefix, StringComparison.Ordinal));
    }

    [Fact]
    public async Task What_a_killed_run_has_left_is_removed_by_age()
    {
        var recent = $"courier_trial_{DateTime.UtcNow:yyyyMMddHHmm}_aaaaaaaa_1";
        const string old = "courier_trial_202001010000_aaaaaaaa_1", others = "courierxtrial_202001010000_1";
        foreach (var name in new[] { recent, old, others }) Servers.Postgres.Create(name);
        await using var server = new TrialServer($"{Servers.Postgres.Address}/postgres");
        await using (var trial = new Trial(new TrialOptions { Server = server }))
            await trial.StartAsync("harbour", Services.Harbour);
        using var connection = Servers.Postgres.Open("postgres");
        var left = connection.Query<string>("SELECT datname FROM pg_database").ToList();
        Assert.Contains(recent, left);
        Assert.Contains(others, left);
        Assert.DoesNotContain(old, left);
    }

    [Fact]
    public async Task A_server_that_cannot_be_used_says_why()
    {
        Assert.Contains("postgres://USER@HOST/DATABASE", Assert.Throws<CourierException>(
            () => new TrialServer("sqlite:file.db")).Message, StringComparison.Ordinal);
        using (var connection = Servers.Postgres.Open("postgres"))
            connection.Execute("CREATE ROLE nobody LOGIN PASSWORD 'secret'");
        var address = new UriBuilder($"{Servers.Postgres.Address}/postgres")
        {
            UserName = "nobody", Password = "secret",
        };
        await using var server = new TrialServer(address.Uri.ToString());
        await using var trial = new Trial(new TrialOptions { Server = server });
        var problem = await Assert.ThrowsAsync<CourierException>(() => trial.StartAsync("harbour", Services.Harbour));
        Assert.Contains("CREATEDB", problem.Message, StringComparison.Ordinal);
        Assert.DoesNotContain("secret", problem.ToString(), StringComparison.Ordinal);
    }
}
