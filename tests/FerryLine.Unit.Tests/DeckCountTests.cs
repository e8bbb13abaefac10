using FerryLine.Contracts;
using FerryLine.DeckCount;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace FerryLine.Unit.Tests;

/// <summary>Receivers that work with EF Core: each is built by its services, in its context's transaction.</summary>
public sealed class DeckCountTests : IAsyncLifetime
{
    private const string Sailing = "0720-Saltmarsh";

    private TrialStore store = null!;

    public async ValueTask InitializeAsync() => store = await TrialStore.CreateAsync(
        Register,
        (services, cancel) => services.GetRequiredService<DeckContext>().Database.EnsureCreatedAsync(cancel));

    public ValueTask DisposeAsync() => store.DisposeAsync();

    private static void Register(HostApplicationBuilder application)
    {
        application.Services.AddSingleton(new Timetable(new Dictionary<string, int> { [Sailing] = 20 }));
        application.Services.AddDbContext<DeckContext>((services, options) => options.UseCourierStore(
            services, (o, connection) => o.UseSqlite(connection)));
        application.Services.AddGentleCourier(courier => courier.UseSqlite().UseDbContext<DeckContext>()
            .Receive("deck-count", queue => queue
                .Enlist<DeckContext>()
                .Handle<PassengerBoarded, CountPassenger>()
                .Handle<SailingDeparted, CloseSailing>()));
    }

    private Task<AttemptResult> BoardAsync(string sailing = Sailing, int daysLater = 0) => store.HandleAsync(
        new PassengerBoarded("Saltmarsh", "4711", sailing,
            new DateTimeOffset(ServiceDay.Today.AddDays(daysLater), new TimeOnly(7, 0), TimeSpan.Zero)));

    [Fact]
    public async Task The_passenger_who_makes_a_deck_nearly_full_and_no_other_is_told_of()
    {
        for (var i = 1; i <= 20; i++)
        {
            var result = await BoardAsync();
            Assert.Equal((HandledAs.Handled, i == 18 ? 1 : 0), (result.Outcome, result.Published.Count));
            if (i != 18) continue;
            Assert.Equal(new DeckNearlyFull(Sailing, 18, 20), result.Published[0].Data<DeckNearlyFull>());
            Assert.Equal(Sailing, result.Published[0].Event.Subject);
        }
    }

    [Theory, InlineData("0500-Nowhere", 0, "no sailing '0500-Nowhere'"), InlineData(Sailing, 1, "have not begun")]
    public async Task A_passenger_of_no_sailing_or_of_tomorrow_is_set_aside(string sailing, int daysLater, string why)
    {
        var result = await BoardAsync(sailing, daysLater);
        Assert.Equal(HandledAs.SetAside, result.Outcome);
        Assert.Contains(why, result.Reason, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_departure_is_written_down()
    {
        var twentyPastSeven = new DateTimeOffset(ServiceDay.Today, new TimeOnly(7, 20), TimeSpan.Zero);
        await store.HandleAsync(new SailingDeparted(Sailing, twentyPastSeven));
        await using var scope = store.Services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<DeckContext>();
        Assert.Equal(Sailing, (await context.Departures.SingleAsync()).Sailing);
    }
}
