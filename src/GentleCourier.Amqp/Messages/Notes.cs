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

    public bool IsEmpty => Attempt is null && Reason is null;

    public static Notes Of(in Message message)
    {
        if (message.Annotations.IsEmpty) return default;
        var reader = new WireReader(message.Annotations.Span);
        return WireValue.Any.Read(ref reader) is WireMap map
            ? new(map[AttemptName] is int and > 0 and var attempt ? attempt : null, map[ReasonName] as string)
            : default;
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
