using System.Diagnostics.CodeAnalysis;
using System.Globalization;

namespace GentleCourier;

/// <summary>
/// How many unsettled deliveries a worker may hold: a number, <see cref="SelfTuned"/>, or <see cref="Unlimited"/>. In
/// settings <c>20</c>, <c>self-tuned</c> or <c>unlimited</c>.
/// </summary>
public readonly record struct Prefetch
{
    private const string SelfTunedText = "self-tuned";
    private const string UnlimitedText = "unlimited";
    private readonly Kind kind;

    private Prefetch(Kind kind, int count) => (this.kind, Count) = (kind, count);

    private enum Kind
    {
        Fixed,
        SelfTuned,
        Unlimited,
    }

    /// <summary>
    /// As many as keep the handlers busy while the next are fetched, and no more: from the measured times of handling
    /// and fetching, again and again. Large for short work, <see cref="ReceiverOptions.Parallel"/> for long work.
    /// </summary>
    public static Prefetch SelfTuned { get; } = new(Kind.SelfTuned, 0);

    /// <summary>
    /// Whatever there is. Its price: the memory of the whole backlog in the worst case, and work that waits behind a
    /// busy worker while others have nothing to do.
    /// </summary>
    public static Prefetch Unlimited { get; } = new(Kind.Unlimited, 0);

    /// <summary>The number; 0 where there is none.</summary>
    public int Count { get; }

    internal bool IsSelfTuned => kind == Kind.SelfTuned;

    internal bool IsUnlimited => kind == Kind.Unlimited;

    /// <summary>Exactly this many.</summary>
    /// <param name="count">1 to 100,000; checked with the other options at start.</param>
    public static Prefetch Of(int count) => new(Kind.Fixed, count);

    /// <summary>Exactly this many; see <see cref="Of"/>.</summary>
    [SuppressMessage("Usage", "CA2225:Operator overloads have named alternates", Justification = "It is called Of.")]
    public static implicit operator Prefetch(int count) => Of(count);

    /// <summary>Reads what <see cref="ToString"/> writes.</summary>
    public static bool TryParse(string? text, out Prefetch prefetch)
    {
        var isNumber = int.TryParse(text, CultureInfo.InvariantCulture, out var count);
        prefetch = text switch
        {
            SelfTunedText => SelfTuned,
            UnlimitedText => Unlimited,
            _ => Of(count),
        };
        return isNumber || prefetch.kind != Kind.Fixed;
    }

    /// <summary>As it is written in settings.</summary>
    public override string ToString() => kind switch
    {
        Kind.SelfTuned => SelfTunedText,
        Kind.Unlimited => UnlimitedText,
        _ => Count.ToString(CultureInfo.InvariantCulture),
    };
}
