using System.Globalization;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Tables;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>What is written with the dead letters of a broker.</summary>
internal sealed class BrokerLetters(PostgresServer server, BrokerTopology topology)
{
    private const int LettersAStep = 500;

    private readonly LetterStatements sql = new(server);

    /// <summary>The letters that went back, and the queues that got something.</summary>
    public async Task<(IReadOnlyList<bool> Went, IReadOnlyCollection<int> Touched)> SendBackAsync(
        IReadOnlyList<LetterReturn> letters, DateTimeOffset now, CancellationToken cancellationToken)
    {
        var (gone, queues) = (new HashSet<string>(StringComparer.Ordinal), new HashSet<int>());
        var known = letters.Where(back => LetterTable.TryParse(back.Letter.Id, out _)).ToArray();
        FaultPoint.Pass(FaultPoint.WrittenNotCommitted);
        await server.RunAsync(
            "send dead letters back in",
            new RoundTrip().Add(
                sql.SendBack, Read, server.Now, Parameter.Of(Array.ConvertAll(known, back => NumberOf(back.Letter.Id))),
                Parameter.Of(Array.ConvertAll(known, back => back.Json)),
                Parameter.Of(Array.ConvertAll(known, back => back.PartitionKey)),
                Parameter.Of(Array.ConvertAll(known, back => (string?)HistoryJson.Of(back, now)))),
            cancellationToken, PostgresBroker.PublishLimit).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.CommittedNotConfirmed);
        return ([.. letters.Select(back => gone.Contains(back.Letter.Id))], queues);

        void Read(NpgsqlDataReader row)
        {
            gone.Add(LetterTable.TextOf(row.GetInt64(0)));
            queues.Add(row.GetInt32(1));
        }
    }

    public async Task<IReadOnlyList<bool>> DiscardAsync(
        IReadOnlyList<string> ids, CancellationToken cancellationToken)
    {
        var gone = new HashSet<string>(StringComparer.Ordinal);
        var numbers = ids.Where(id => LetterTable.TryParse(id, out _)).Select(NumberOf).ToArray();
        await server.RunAsync(
            "discard dead letters of",
            new RoundTrip().Add(
                sql.Discard, row => gone.Add(LetterTable.TextOf(row.GetInt64(0))), Parameter.Of(numbers)),
            cancellationToken).ConfigureAwait(false);
        return [.. ids.Select(gone.Contains)];
    }

    /// <summary>Removes the oldest letters of a queue, as far as they are old enough.</summary>
    public async Task<ChoreStep> ClearOldAsync(string queue, TimeSpan keep, CancellationToken cancellationToken)
    {
        var (id, removed) = (await topology.IdOfAsync(queue, cancellationToken).ConfigureAwait(false), 0);
        await server.RunAsync(
            "clear away dead letters of",
            new RoundTrip().Add(sql.ClearOld, _ => removed++, server.Now, Parameter.Of(id),
                Parameter.Of((TimeSpan?)keep), Parameter.Of(LettersAStep)),
            cancellationToken).ConfigureAwait(false);
        return new(removed, removed == LettersAStep ? "" : null);
    }

    private static long NumberOf(string id) => long.Parse(id, CultureInfo.InvariantCulture);
}
