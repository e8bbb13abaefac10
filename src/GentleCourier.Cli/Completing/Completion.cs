using System.CommandLine;
using GentleCourier.Engines;

namespace GentleCourier.Cli;

/// <summary>Names that a shell offers while a command line is typed.</summary>
internal static class Completion
{
    // Whoever types does not wait for a broker that is away.
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(1);

    /// <summary>What is known; nothing, where it cannot be found out.</summary>
    public static IEnumerable<string> Of(Func<IEnumerable<string>> read)
    {
        try
        {
            return [.. read()];
        }
        catch (Exception e) when (e is CourierException or UsageException or OperationCanceledException
            or TimeoutException or IOException or UnauthorizedAccessException)
        {
            return [];
        }
    }

    /// <summary>Has an option or an argument offer the queues of the broker that is named.</summary>
    public static TSymbol OfQueues<TSymbol>(TSymbol symbol) where TSymbol : Symbol => OfBroker(
        symbol,
        async (broker, cancel) => (await Connections.ReportsOf(broker).ReadTopologyAsync(cancel)).Queues);

    /// <summary>Has an option or an argument offer what is read from the broker that is named.</summary>
    public static TSymbol OfBroker<TSymbol>(
        TSymbol symbol, Func<IBroker, CancellationToken, Task<IReadOnlyCollection<string>>> read) where TSymbol : Symbol
    {
        var sources = symbol switch
        {
            Option option => option.CompletionSources,
            Argument argument => argument.CompletionSources,
            _ => throw new ArgumentException($"a {symbol.GetType().Name} is not completed", nameof(symbol)),
        };
        sources.Add(context => Of(() => Read(context.ParseResult, read)));
        return symbol;
    }

    private static IReadOnlyCollection<string> Read(
        ParseResult result, Func<IBroker, CancellationToken, Task<IReadOnlyCollection<string>>> read)
    {
        using var limit = new CancellationTokenSource(Patience);
        return Task.Run(() => ReadAsync(limit.Token)).WaitAsync(Patience).GetAwaiter().GetResult();

        async Task<IReadOnlyCollection<string>> ReadAsync(CancellationToken cancel)
        {
            await using var broker = Connections.Of(result).Broker(result);
            return await read(broker, cancel);
        }
    }
}
