using GentleCourier.Amqp.Performatives;

namespace GentleCourier.Amqp.Tests;

/// <summary>How one peer is: any legal value of whatever the specification lets it choose, by a seed.</summary>
internal sealed class Habits
{
    private readonly Random random;

    public Habits(int seed)
    {
        random = new Random(seed);
        Open = new Open
        {
            ContainerId = $"peer {seed}", MaxFrameSize = (uint)WireLimits.MaxFrameSize.Draw(random, 512, 513, 4096),
            ChannelMax = (ushort)WireLimits.ChannelMax.Draw(random, 1, 2, 3, 4, 4999),
            IdleTimeOut = Chance(0.3) ? (uint)random.Next(1_000, 60_000) : null,
        };
        HandleMax = (uint)WireLimits.HandleMax.Draw(random, 1, 2, 7);
        IncomingWindow = (uint)Math.Max(1, WireLimits.Window.Draw(random, 1, 2, 5, 100));
        Credit = (uint)Math.Max(1, WireLimits.LinkCredit.Draw(random, 1, 2, 50));
        FirstTransfer = (uint)WireLimits.Sequence.Draw(random, uint.MaxValue, uint.MaxValue - 2);
        FirstDelivery = (uint)WireLimits.Sequence.Draw(random, uint.MaxValue, uint.MaxValue - 2);
        Mechanisms = Chance(0.5) ? ["ANONYMOUS"] : ["EXTERNAL", "X-OWN", "ANONYMOUS", "PLAIN"];
        (SettlesInTwo, SettlesLate, SaysAvailable, Echoes, SendsEmpty) =
            (Chance(0.3), Chance(0.3), Chance(0.6), Chance(0.8), Chance(0.3));
        (Aborts, Cuts, GivesBack, Interleaves) = (Some(0.2), Some(0.7), Some(0.2), Chance(0.5));
        Settles = Chance(0.1) ? 1 : Some(0.3);
        Refuses = Chance(0.3) ? random.Next(1, 3) : 0;
        // Who settles beforehand, and breaks off, loses by its own habit.
        Breaks = Settles == 0 && Chance(0.3) ? random.Next(1, 4) : 0;
    }

    public Open Open { get; }

    public uint HandleMax { get; }

    public uint IncomingWindow { get; }

    public uint Credit { get; }

    /// <summary>Its numbers begin anywhere, and go round.</summary>
    public uint FirstTransfer { get; }

    public uint FirstDelivery { get; }

    public Types.Symbol[] Mechanisms { get; }

    /// <summary>It waits for the sender's word before it settles.</summary>
    public bool SettlesInTwo { get; }

    /// <summary>It tells of many at once.</summary>
    public bool SettlesLate { get; }

    public bool SaysAvailable { get; }

    public bool Echoes { get; }

    public bool SendsEmpty { get; }

    public bool Interleaves { get; }

    /// <summary>How likely it takes a message back in its middle, or hands it over in several frames.</summary>
    public double Aborts { get; }

    public double Cuts { get; }

    /// <summary>How likely it does not take a message, and how likely it settles one beforehand.</summary>
    public double GivesBack { get; }

    public double Settles { get; }

    /// <summary>How many attachings it refuses at first, and how often it breaks off something.</summary>
    public int Refuses { get; set; }

    public int Breaks { get; set; }

    /// <summary>Whether nothing of it makes an event come twice.</summary>
    public bool IsExact => Breaks == 0 && Settles == 0 && GivesBack == 0 && Refuses == 0;

    public bool Chance(double of) => random.NextDouble() < of;

    public int Next(int most) => random.Next(most);

    public override string ToString() => $"channels {Open.ChannelMax}, handles {HandleMax}, frames "
        + $"{Open.MaxFrameSize}, window {IncomingWindow}, credit {Credit}, first {FirstTransfer}/{FirstDelivery}, "
        + $"refuses {Refuses}, breaks {Breaks}, in two {SettlesInTwo}, late {SettlesLate}, echoes "
        + $"{Echoes}, available {SaysAvailable}, aborts "
        + $"{Aborts:0.00}, cuts {Cuts:0.00}, gives back {GivesBack:0.00}, settles {Settles:0.00}";

    private double Some(double most) => Chance(0.5) ? random.NextDouble() * most : 0;
}

/// <summary>Draws of what is legal.</summary>
internal static class WireLimitDraws
{
    /// <summary>Its least or its most, one of some that are awkward, or any.</summary>
    public static ulong Draw(this WireLimit limit, Random random, params ReadOnlySpan<ulong> awkward) =>
        random.Next(4) switch
        {
            0 => limit.Most,
            1 => limit.Least,
            2 => awkward[random.Next(awkward.Length)],
            _ => limit.Least + ((ulong)random.NextInt64() % (limit.Most - limit.Least + 1)),
        };
}
