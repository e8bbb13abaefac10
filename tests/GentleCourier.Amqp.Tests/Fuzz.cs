using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;
using GentleCourier.Events;

namespace GentleCourier.Amqp.Tests;

/// <summary>Bytes that nobody meant, by a seed.</summary>
internal static class Fuzz
{
    /// <summary>The first one, or as many as <c>eng/fuzz.sh</c> asks for.</summary>
    public static IEnumerable<int> Seeds
    {
        get
        {
            for (var seed = 1; seed <= Count; seed++) yield return seed;
        }
    }

    public static int Count => int.Parse(Environment.GetEnvironmentVariable("COURIER_FUZZ_SEEDS") ?? "1");

    /// <summary>Feeds the decoder with random bytes, and with sound ones that were changed.</summary>
    public static void Decoder(int seed, int rounds)
    {
        var random = new Random(seed);
        using var reader = new CloudEventReader();
        byte[][] sound = [EncodingTests.Write(EncodingTests.EveryType), .. Samples.Frames(), .. Samples.Messages()];
        for (var round = 0; round < rounds; round++)
        {
            var bytes = Bytes(random, sound);
            var before = GC.GetAllocatedBytesForCurrentThread();
            Try(() => _ = EncodingTests.Read(bytes));
            Try(() => Frame(bytes));
            Try(() => reader.Read(Message.Of(bytes)));
            var allocated = GC.GetAllocatedBytesForCurrentThread() - before;
            Assert.True(
                allocated < 1_000_000 + bytes.Length * 200L,
                $"seed {seed}, round {round}: {allocated} bytes for {Convert.ToHexString(bytes)}");
        }
    }

    /// <summary>Sound bytes with some changed, moved, cut or repeated; now and then random ones.</summary>
    public static byte[] Bytes(Random random, byte[][] sound)
    {
        if (random.Next(4) == 0)
        {
            var any = new byte[random.Next(64)];
            random.NextBytes(any);
            return any;
        }
        var bytes = sound[random.Next(sound.Length)].ToArray();
        for (var change = random.Next(4); change >= 0 && bytes.Length > 0; change--)
        {
            var at = random.Next(bytes.Length);
            switch (random.Next(4))
            {
                case 0: bytes[at] = (byte)random.Next(256); break;
                case 1: bytes[at] ^= (byte)(1 << random.Next(8)); break;
                case 2: bytes = bytes[..at]; break;
                default: bytes = [.. bytes[at..], .. bytes[..at]]; break;
            }
        }
        return bytes;
    }

    private static void Frame(byte[] body)
    {
        var reader = new WireReader(body);
        switch (Descriptor.Read(ref reader, Performative.CodeOf))
        {
            case Performative.Open: Open.Shape.ReadFields(ref reader, new()); break;
            case Performative.Begin: Begin.Shape.ReadFields(ref reader, new()); break;
            case Performative.Attach: Attach.Shape.ReadFields(ref reader, new()); break;
            case Performative.Flow: FlowState.Shape.ReadFields(ref reader, new()); break;
            case Performative.Transfer: Transfer.Shape.ReadFields(ref reader, new()); break;
            case Performative.Disposition: Disposition.Shape.ReadFields(ref reader, new()); break;
            case Performative.Detach: Detach.Shape.ReadFields(ref reader, new()); break;
            default: break;
        }
    }

    private static void Try(Action read)
    {
        try
        {
            read();
        }
        catch (Exception e) when (e is DecodeException or UnreadableEventException)
        {
            // Refused with a reason.
        }
    }
}
