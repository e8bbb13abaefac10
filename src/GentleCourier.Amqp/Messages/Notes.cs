using System.Text;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Messages;

/// <summary>
/// What travels with a message that was sent anew because its queue cannot count, as message annotations (part 3,
/// section 3.2.3). The names begin as those of users have to.
/// </summary>
/// <param name="Attempt">Which attempt its next is, from 2 on; null where nobody has counted.</param>
/// <param name="Reason">Why it was set aside; null where it was not.</param>
internal readonly record struct Notes(int? Attempt, string? Reason = null)
{
    private static readonly Symbol AttemptName = "x-opt-courier-attempt", ReasonName = "x-opt-courier-reason";

    private static readonly byte[] AttemptBytes = Encoding.ASCII.GetBytes(AttemptName.Text),
        ReasonBytes = Encoding.ASCII.GetBytes(ReasonName.Text);

    public bool IsEmpty => Attempt is null && Reason is null;

    /// <summary>Everybody's annotations stand there: of the others nothing is read.</summary>
    /// <exception cref="DecodeException">They are not sound.</exception>
    public static Notes Of(in Message message)
    {
        var notes = default(Notes);
        if (message.Annotations.IsEmpty) return notes;
        var reader = new WireReader(message.Annotations.Span);
        if (reader.Peek() is not (FormatCode.Map8 or FormatCode.Map32)) return notes;
        var inside = reader.Enter(reader.Byte(), out var count);
        for (var i = 0; i < count; i += 2)
        {
            var name = NameOf(ref inside);
            if (name.SequenceEqual(AttemptBytes) && inside.Peek() is FormatCode.Int or FormatCode.IntSmall)
                notes = notes with { Attempt = WireTypes.Int.Read(ref inside) is > 0 and var attempt ? attempt : null };
            else if (name.SequenceEqual(ReasonBytes) && inside.Peek() is FormatCode.String8 or FormatCode.String32)
                notes = notes with { Reason = WireTypes.String.Read(ref inside) };
            else
                WireValue.Skip(ref inside);
        }
        return notes;
    }

    private static ReadOnlySpan<byte> NameOf(ref WireReader from)
    {
        switch (from.Peek())
        {
            case FormatCode.Symbol8:
                from.Byte();
                return from.Bytes(from.Byte());
            case FormatCode.Symbol32:
                from.Byte();
                return from.Bytes(from.UInt32());
            default:
                WireValue.Skip(ref from);
                return default;
        }
    }

    public void Write(WireBuffer to)
    {
        if (IsEmpty) return;
        Message.Begin(to, Section.MessageAnnotations);
        var (start, count) = (to.Begin(), 0);
        if (Attempt is { } attempt)
        {
            WireTypes.Symbol.Write(to, AttemptName);
            WireTypes.Int.Write(to, attempt);
            count += 2;
        }
        if (Reason is { } reason)
        {
            WireTypes.Symbol.Write(to, ReasonName);
            WireTypes.String.Write(to, reason);
            count += 2;
        }
        to.End(start, FormatCode.Map32, count);
    }
}
