using GentleCourier.Engines;

namespace GentleCourier.Receiving;

/// <summary>
/// What a queue asks of its broker that this cannot do, where there is no store to do it instead. Pure computation.
/// </summary>
internal static class WithoutStore
{
    /// <summary>What is lacking, with the remedy; null: nothing.</summary>
    public static string? Lacks(QueueBinding binding, IBroker broker)
    {
        var setting = $"Courier:Receivers:{binding.Queue}";
        if (!broker.Abilities.HasFlag(BrokerAbilities.DeadLetters))
            return $"{broker.DisplayName} does not keep what is set aside, and this process has no store that could; "
                + "set Courier:Store, or for an AMQP 1.0 broker a place of the queue's own (dead-letters=… in its "
                + "address)";
        if (!broker.Abilities.HasFlag(BrokerAbilities.Delays) && HasDelays(binding.Options))
            return $"{broker.DisplayName} cannot give an event again after a delay, and this process has no store that "
                + $"could; set Courier:Store, or set {setting}:FirstDelay and {setting}:MaxDelay to 00:00:00";
        return null;
    }

    private static bool HasDelays(ReceiverOptions options) => options.MaxAttempts > options.RetriesAtOnce + 1
        && (options.FirstDelay > TimeSpan.Zero || options.MaxDelay > TimeSpan.Zero);
}
