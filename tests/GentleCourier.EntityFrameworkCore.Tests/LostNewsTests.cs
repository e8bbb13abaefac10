using System.Data.Common;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Postgres.Tests;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Diagnostics;
using Microsoft.Extensions.DependencyInjection;
using Npgsql;

namespace GentleCourier.EntityFrameworkCore.Tests;

/// <summary>A save that has been committed has succeeded, whatever fails after it.</summary>
public sealed class LostNewsTests
{
    /// <summary>Ends the session on the server as soon as a transaction of it has been committed.</summary>
    private sealed class Ending(Databases place) : DbTransactionInterceptor
    {
        public bool IsOn { get; set; }

        public int Times { get; private set; }

        public override async Task TransactionCommittedAsync(
            DbTransaction transaction, TransactionEndEventData eventData, CancellationToken cancellationToken = default)
        {
            if (!IsOn) return;
            Times++;
            var session = ((NpgsqlConnection)eventData.Context!.Database.GetDbConnection()).ProcessID;
            await using var admin = place.Open("harbour");
            await admin.ExecuteAsync($"SELECT pg_terminate_backend({session}, 60000)");
        }
    }

    [Fact]
    public async Task A_save_that_was_committed_does_not_fail_where_nobody_can_be_told_of_it()
    {
        var place = new Databases();
        var ending = new Ending(place);
        await using var crossing = new Crossing(place);
        var harbour = crossing.Build(
            "harbour", c => c.UseDbContext<HarbourContext>(), new() { ["Courier:Relay:Enabled"] = "false" },
            s => s.AddDbContext<HarbourContext>(
                (sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>()).AddInterceptors(ending)));
        await using var scope = harbour.Services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<HarbourContext>();
        await context.Database.EnsureCreatedAsync();
        await harbour.StartAsync().WaitAsync(Crossing.Limit);
        // It stays open, and is what would be told on.
        await context.Database.OpenConnectionAsync();
        ending.IsOn = true;
        context.Boardings.Add(new Boarding { Tap = 1 });
        context.AddEvent(new Tap(1), new() { Id = "tap-1", Due = DueTime.In(TimeSpan.FromSeconds(1)) });
        await context.SaveChangesAsync();
        Assert.Equal(1, ending.Times);
        Assert.Equal(
            "tap-1", Assert.Single(await harbour.Services.GetRequiredService<ILaterEvents>().ListAsync()).Id);
    }
}
