using System.Globalization;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>The dead letters of a broker: reading them, and what is written with them.</summary>
internal sealed class BrokerLetters(PostgresServer server, BrokerTopology topology)
{
    private const int LettersAStep = 500;

    private readonly LetterStatements sql = new(server);

    public async Task<IReadOnlyList<DeadLetter>> ReadAsync(
        string? queue, int limit, string? beyond, bool oldestFirst, CancellationToken cancellationToken)
    {
        var from = oldestFirst ? 0 : long.MaxValue;
        if (beyond is not null && !TryParse(beyond, out from)) return [];
        List<NpgsqlParameter> parameters = [Parameter.Of(from), Parameter.Of(limit)];
        if (queue is not null)
            parameters.Add(Parameter.Of(await topology.IdOfAsync(queue, cancellationToken).ConfigureAwait(false)));
        return await ReadAsync(sql.Read(queue is not null, oldestFirst), cancellationToken, [.. parameters])
            .ConfigureAwait(false);
    }

    public async Task<DeadLetter?> FindAsync(string id, CancellationToken cancellationToken) =>
        TryParse(id, out var number)
        ? (await ReadAsync(sql.Find, cancellationToken, Parameter.Of(number)).ConfigureAwait(false)).FirstOrDefault()
        : null;

    /// <summary>The letters that went back, and the queues that got something.</summary>
    public async Task<(IReadOnlyList<bool> Went, IReadOnlyCollection<int> Touched)> SendBackAsync(
        IReadOnlyList<LetterReturn> letters, DateTimeOffset now, CancellationToken cancellationToken)
    {
        var (gone, queues) = (new HashSet<string>(StringComparer.Ordinal), new HashSet<int>());
        var known = letters.Where(back => TryParse(back.Letter.Id, out _)).ToArray();
        FaultPoint.Pass(FaultPoint.WrittenNotCommitted);
        await server.RunAsync(
            "send dead letters back in",
            new RoundTrip().Add(sql.HoldRoutes, static _ => { }).Add(
                sql.SendBack, Read, server.Now, Parameter.Of(Array.ConvertAll(known, back => NumberOf(back.Letter.Id))),
                Parameter.Of(Array.ConvertAll(known, back => back.Json)),
                Parameter.Of(Array.ConvertAll(known, back => back.PartitionKey)),
                Parameter.Of(Array.ConvertAll(known, back => (string?)HistoryJson.Of(back, now)))),
            cancellationToken, PostgresBroker.PublishLimit).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.CommittedNotConfirmed);
        return ([.. letters.Select(back => gone.Contains(back.Letter.Id))], queues);

        void Read(NpgsqlDataReader row)
        {
            gone.Add(TextOf(row.GetInt64(0)));
            queues.Add(row.GetInt32(1));
        }
    }

    public async Task<IReadOnlyList<bool>> DiscardAsync(
        IReadOnlyList<string> ids, CancellationToken cancellationToken)
    {
        var gone = new HashSet<string>(StringComparer.Ordinal);
        var numbers = ids.Where(id => TryParse(id, out _)).Select(NumberOf).ToArray();
        await server.RunAsync(
            "discard dead letters of",
            new RoundTrip().Add(sql.Discard, row => gone.Add(TextOf(row.GetInt64(0))), Parameter.Of(numbers)),
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

    private async Task<List<DeadLetter>> ReadAsync(
        string statement, CancellationToken cancellationToken, params NpgsqlParameter[] parameters)
    {
        var letters = new List<DeadLetter>();
        await server.RunAsync("read", new RoundTrip().Add(statement, Read, parameters), cancellationToken)
            .ConfigureAwait(false);
        return letters;

        void Read(NpgsqlDataReader row) => letters.Add(new DeadLetter
        {
            Id = TextOf(row.GetInt64(0)),
            Queue = row.GetString(1),
            Reason = row.GetString(2),
            Failure = row.Failure(3),
            Attempts = row.GetInt32(6),
            Worker = row.GetString(7),
            Arrived = row.Time(8),
            FirstAttempt = row.Time(9),
            SetAside = row.Time(10),
            Json = row.Bytes(11),
            History = HistoryJson.Read(row.Text(12)),
        });
    }

    /// <summary>Ids are numbers, the later letter's the greater.</summary>
    private static bool TryParse(string id, out long number) =>
        long.TryParse(id, NumberStyles.None, CultureInfo.InvariantCulture, out number);

    private static long NumberOf(string id) => long.Parse(id, CultureInfo.InvariantCulture);

    private static string TextOf(long number) => number.ToString(CultureInfo.InvariantCulture);
}
