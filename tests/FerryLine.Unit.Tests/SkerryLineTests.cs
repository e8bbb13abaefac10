using System.Net;
using System.Net.Http.Json;
using Dapper;
using FerryLine.Contracts;
using FerryLine.DeckCount;
using FerryLine.Fares;
using FerryLine.Harbour;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Mvc.Testing;
using Microsoft.AspNetCore.TestHost;
using Microsoft.Extensions.DependencyInjection;

namespace FerryLine.Unit.Tests;

/// <summary>
/// Three programs as they stand, from the request at the gate to the notice of a crowd, with time in the test's hand
/// and everything twice.
/// </summary>
public sealed class SkerryLineTests
{
    private static readonly DateTimeOffset Morning = new(ServiceDay.Today, new TimeOnly(6, 0), TimeSpan.Zero);
    private static readonly string Data = $"--FerryLine:Data={Path.Combine(AppContext.BaseDirectory, "Data")}";

    [Fact]
    public async Task Whatever_happens_each_passenger_is_charged_and_counted_once()
    {
        await using var trial = new Trial(new TrialOptions { Start = Morning }) { Faults = TrialFaults.All };
        await trial.ReceivedElsewhereAsync<DeckNearlyFull>();
        await using var original = new WebApplicationFactory<Tap>();
        await using var harbour = original.WithWebHostBuilder(
            web => web.ConfigureTestServices(services => trial.Join(services, "harbour")));
        using var gate = harbour.CreateClient();
        var fares = await trial.StartProgramAsync<ChargeFare>("fares", Data);
        var decks = await trial.StartProgramAsync<CountPassenger>("deck-count", Data);

        for (var i = 1; i <= 81; i++)
        {
            var tap = new Tap($"saltmarsh-1/{i}", "Saltmarsh", $"card-{i:00}", "0720-Saltmarsh", Morning.AddMinutes(i));
            using var answer = await gate.PostAsJsonAsync(new Uri("/taps", UriKind.Relative), tap);
            Assert.Equal(HttpStatusCode.Accepted, answer.StatusCode);
        }
        await trial.RunUntilIdleAsync();

        await using var ofFares = await fares.Services.Store().OpenConnectionAsync();
        Assert.Equal(
            (81, 81 * 220), await ofFares.QuerySingleAsync<(int, int)>("SELECT count(*), sum(cents) FROM charge"));
        await using var scope = decks.Services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<DeckContext>();
        Assert.Equal(81, (await context.Decks.FindAsync("0720-Saltmarsh"))!.OnBoard);
        var crowd = Assert.Single(trial.Published, p => p.Is<DeckNearlyFull>());
        Assert.Equal(new DeckNearlyFull("0720-Saltmarsh", 81, 90), crowd.Data<DeckNearlyFull>());
        Assert.DoesNotContain(trial.Deliveries, d => d.Outcome == HandledAs.SetAside);
    }

    [Fact]
    public async Task A_program_that_runs_until_it_is_stopped_is_not_run_to_its_end()
    {
        await using var trial = new Trial(new TrialOptions { Start = Morning, Limit = TimeSpan.FromSeconds(1) });
        var problem = await Assert.ThrowsAsync<TrialException>(
            () => trial.RunProgramAsync<ChargeFare>("fares", Data));
        Assert.Contains("the program of 'fares' has not ended", problem.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_accounts_are_closed_each_night_at_eleven()
    {
        await using var trial = new Trial(new TrialOptions { Start = Morning });
        var fares = await trial.StartProgramAsync<ChargeFare>("fares", Data);
        await trial.AdvanceByAsync(TimeSpan.FromDays(2));

        await using var connection = await fares.Services.Store().OpenConnectionAsync();
        var closed = await connection.QueryAsync<string>("SELECT event_id FROM closing ORDER BY closed_at");
        Assert.Equal(["close-accounts@2031-06-14T23:00:00Z", "close-accounts@2031-06-15T23:00:00Z"], closed);
    }
}

internal static class Stores
{
    public static IStore Store(this IServiceProvider services) => services.GetRequiredService<IStore>();
}
