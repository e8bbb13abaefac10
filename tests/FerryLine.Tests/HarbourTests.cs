using System.Net;
using System.Net.Http.Json;
using GentleCourier;
using GentleCourier.Watching;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Mvc.Testing;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;

namespace FerryLine.Tests;

/// <summary>
/// The gate within the test's own process, as people test a web service: with settings that come late.
/// </summary>
public sealed class HarbourTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("ferryline-harbour-").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    [Fact]
    public async Task A_tap_is_in_the_outbox_of_a_store_that_the_test_has_chosen()
    {
        await using var original = new WebApplicationFactory<Program>();
        await using var harbour = original.WithWebHostBuilder(web => web
            .UseSetting("Courier:Source", "/test/harbour")
            .UseSetting("Courier:Broker", $"sqlite:{folder}/broker.db")
            .ConfigureAppConfiguration((_, settings) => settings.AddInMemoryCollection(
                new Dictionary<string, string?> { ["Courier:Store"] = $"sqlite:{folder}/harbour.db" })));
        using var gate = harbour.CreateClient();
        var tap = new
        {
            Number = "longsand-1/7", Pier = "Longsand", Card = "4711", Sailing = "0614-Old-Light",
            TappedAt = new DateTimeOffset(2031, 6, 14, 6, 10, 0, TimeSpan.Zero),
        };
        using var answer = await gate.PostAsJsonAsync(
            new Uri("/taps", UriKind.Relative), tap, TestContext.Current.CancellationToken);
        Assert.Equal(HttpStatusCode.Accepted, answer.StatusCode);
        var status = await harbour.Services.GetRequiredService<ICourierStatus>()
            .ReadAsync(TestContext.Current.CancellationToken);
        Assert.Equal(1, Assert.Single(status.Stores).Outbox.Waiting);
    }
}
