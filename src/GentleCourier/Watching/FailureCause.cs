using System.Security.Cryptography;
using System.Text;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Watching;

/// <summary>
/// Why events were set aside, so that those with the same cause can be told from others: queue, type, exception, and
/// the message without what differs from event to event. Pure computation.
/// </summary>
public sealed class FailureCause : IEquatable<FailureCause>
{
    private const int Longest = 200;

    internal FailureCause(string queue, string type, string? exception, string message) =>
        (Queue, Type, Exception, Message) = (queue, type, exception, message);

    /// <summary>The queue.</summary>
    public string Queue { get; }

    /// <summary>The event's wire type; empty where it cannot be read.</summary>
    public string Type { get; }

    /// <summary>The exception's class, without its namespace; null where there was none.</summary>
    public string? Exception { get; }

    /// <summary>What was said, with <c>#</c> for each word that has a digit and quotes emptied.</summary>
    public string Message { get; }

    /// <summary>Eight hexadecimal digits that stand for it.</summary>
    public string Id
    {
        get
        {
            var text = string.Join('\0', Queue, Type, Exception ?? "", Message);
            return Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)).AsSpan(0, 4));
        }
    }

    /// <summary>The cause of a dead letter.</summary>
    public static FailureCause Of(DeadLetter letter)
    {
        ArgumentNullException.ThrowIfNull(letter);
        return Of(letter.Queue, letter.Json, letter.Failure, letter.Reason);
    }

    /// <summary>Whether all of it is the same.</summary>
    public bool Equals(FailureCause? other) => other is not null
        && (Queue, Type, Exception, Message) == (other.Queue, other.Type, other.Exception, other.Message);

    /// <inheritdoc />
    public override bool Equals(object? obj) => Equals(obj as FailureCause);

    /// <inheritdoc />
    public override int GetHashCode() => HashCode.Combine(Queue, Type, Exception, Message);

    internal static FailureCause Of(string queue, ReadOnlyMemory<byte> json, Failure? failure, string reason) => new(
        queue, TypeOf(json), failure?.Exception.Split('.')[^1], Shape(failure?.Message ?? reason));

    /// <summary>
    /// The first line of a message, 200 characters of it at the most, without what differs from event to event: what
    /// stands in quotes is left out, and a word with a digit in it becomes <c>#</c>.
    /// </summary>
    internal static string Shape(string message)
    {
        ArgumentNullException.ThrowIfNull(message);
        var (shape, text) = (new StringBuilder(), Words.FirstLine(message));
        for (var i = 0; i < text.Length && shape.Length < Longest;)
        {
            if (Closing(text, i) is { } end)
            {
                shape.Append(text[i]).Append('…').Append(text[end]);
                i = end + 1;
            }
            else if (IsOfWord(text[i]))
            {
                var start = i;
                while (i < text.Length && (IsOfWord(text[i]) || IsWithin(text, i))) i++;
                var word = text.AsSpan(start, i - start);
                if (word.IndexOfAnyInRange('0', '9') < 0) shape.Append(word);
                else if (shape is not [.., '#']) shape.Append('#');
            }
            else
            {
                shape.Append(text[i++]);
            }
        }
        return shape.ToString(0, Math.Min(shape.Length, Longest));
    }

    /// <summary>Where the quotes end that begin here; null where none do. An apostrophe is within a word.</summary>
    private static int? Closing(string text, int at)
    {
        var closing = text[at] switch { '\'' => '\'', '"' => '"', '`' => '`', '‘' => '’', '“' => '”', '«' => '»',
            _ => '\0' };
        if (closing == '\0' || (at > 0 && char.IsLetterOrDigit(text[at - 1]))) return null;
        for (var end = text.IndexOf(closing, at + 1); end > 0; end = text.IndexOf(closing, end + 1))
            if (end + 1 == text.Length || !char.IsLetterOrDigit(text[end + 1])) return end;
        return null;
    }

    private static bool IsOfWord(char c) => char.IsLetterOrDigit(c) || c is '_' or '-' or '/' or '@' or '+' or '#';

    /// <summary>A point, a comma or a colon between two letters or digits, as in a number or a time.</summary>
    private static bool IsWithin(string text, int at) => text[at] is '.' or ',' or ':' or '\''
        && at > 0 && char.IsLetterOrDigit(text[at - 1]) && at + 1 < text.Length && char.IsLetterOrDigit(text[at + 1]);

    private static string TypeOf(ReadOnlyMemory<byte> json)
    {
        try
        {
            return CourierEvent.Read(json).Type;
        }
        catch (UnreadableEventException)
        {
            return "";
        }
    }
}
