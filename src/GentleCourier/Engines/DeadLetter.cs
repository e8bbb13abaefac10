using System.Security.Cryptography;
using System.Text;

namespace GentleCourier.Engines;

/// <summary>An event set aside, with everything that is known about why.</summary>
public sealed record DeadLetter
{
    /// <summary>Its id within the broker, as the engine writes it.</summary>
    public required string Id { get; init; }

    /// <summary>The queue whose receiver set it aside.</summary>
    public required string Queue { get; init; }

    /// <summary>Why, in one line.</summary>
    public required string Reason { get; init; }

    /// <summary>The exception behind it, if there was one.</summary>
    public Failure? Failure { get; init; }

    /// <summary>How many times it was handed over.</summary>
    public required int Attempts { get; init; }

    /// <summary>The worker that set it aside.</summary>
    public required string Worker { get; init; }

    /// <summary>When the queue got it; null where the engine cannot know.</summary>
    public DateTimeOffset? Arrived { get; init; }

    /// <summary>When it was handed over for the first time; null where the engine cannot know.</summary>
    public DateTimeOffset? FirstAttempt { get; init; }

    /// <summary>When it was set aside.</summary>
    public required DateTimeOffset SetAside { get; init; }

    /// <summary>The event as it was published; UTF-8 JSON, unless that is what is wrong with it.</summary>
    public required ReadOnlyMemory<byte> Json { get; init; }

    /// <summary>
    /// An id that follows from queue and event, so that keeping an event twice, as after a kill, leaves one letter.
    /// </summary>
    internal static string IdOf(string queue, ReadOnlySpan<byte> json)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        hash.AppendData(Encoding.UTF8.GetBytes(queue + '\0'));
        hash.AppendData(json);
        return Convert.ToHexStringLower(hash.GetHashAndReset().AsSpan(0, 8));
    }
}
