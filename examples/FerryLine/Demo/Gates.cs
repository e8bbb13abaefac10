using System.Net;
using System.Net.Http.Json;
using FerryLine.Contracts;

namespace FerryLine.Demo;

/// <summary>Replays the day as the gates would: in rushes, over a hundred connections at once.</summary>
internal sealed class Gates : IDisposable
{
    private const int Connections = 100;

    private readonly HttpClient http;
    private readonly Random random;
    private int requests;
    private int refused;

    public Gates(Uri harbour, int seed)
    {
        http = new HttpClient(new SocketsHttpHandler { MaxConnectionsPerServer = Connections }) { BaseAddress = harbour, Timeout = TimeSpan.FromSeconds(30) };
        random = new Random(seed);
    }

    public int Requests => requests;

    /// <summary>Requests that the harbour answered with "bad request".</summary>
    public int Refused => refused;

    /// <summary>Taps of one sailing, all at once; a flaky gate sends one in twenty twice.</summary>
    public async Task BoardAsync(IEnumerable<Tap> taps, CancellationToken cancel)
    {
        var toSend = taps.SelectMany(tap => Enumerable.Repeat(tap, random.Next(20) == 0 ? 2 : 1)).ToList();
        await Parallel.ForEachAsync(
            toSend, new ParallelOptions { MaxDegreeOfParallelism = Connections, CancellationToken = cancel },
            async (tap, c) => await SendAsync("taps", () => JsonContent.Create(tap), c));
    }

    public Task DepartAsync(Sailing sailing, CancellationToken cancel) =>
        SendAsync("departures", () => JsonContent.Create(new { Sailing = sailing.Id, DepartedAt = sailing.Departs }), cancel);

    /// <summary>A body that is not JSON; the harbour should say so and record nothing.</summary>
    public Task BabbleAsync(CancellationToken cancel) =>
        SendAsync("taps", () => new StringContent("Longsand;card-0417;06:12", null, "application/json"), cancel);

    public void Dispose() => http.Dispose();

    private async Task SendAsync(string path, Func<HttpContent> content, CancellationToken cancel)
    {
        for (var attempt = 1; ; attempt++)
        {
            Interlocked.Increment(ref requests);
            using var body = content();
            using var response = await http.PostAsync(path, body, cancel);
            if (response.StatusCode == HttpStatusCode.BadRequest)
            {
                Interlocked.Increment(ref refused);
                return;
            }
            if (response.IsSuccessStatusCode) return;
            // A gate that gets no answer sends again; that the first may have counted is what ids are for.
            if (attempt == 5) throw new HttpRequestException($"the harbour answered {(int)response.StatusCode} to /{path} five times");
            await Task.Delay(200 * attempt, cancel);
        }
    }
}
