using System.Globalization;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace GentleCourier.ByHand;

/// <summary>
/// How running workers are to receive from a queue, other than their settings say; null is as they say. It is bounded
/// as settings are, and a worker that cannot work so says why, and goes on as before.
/// </summary>
public sealed record Steering
{
    /// <summary>In the place of <see cref="ReceiverOptions.Prefetch"/>.</summary>
    public Prefetch? Prefetch { get; init; }

    /// <summary>
    /// In the place of <see cref="ReceiverOptions.Parallel"/>. All handlers of a process together are no more than the
    /// connections to its store allow.
    /// </summary>
    public int? Parallel { get; init; }

    /// <summary>In the place of <see cref="ReceiverOptions.MaxPerSecond"/>.</summary>
    public double? MaxPerSecond { get; init; }

    /// <summary>In the place of <see cref="ReceiverOptions.BrakeAfter"/>; 0 takes a brake off that is on.</summary>
    public int? BrakeAfter { get; init; }

    /// <summary>Whether it says nothing.</summary>
    internal bool IsEmpty => this == new Steering();

    /// <summary>What another says goes before it.</summary>
    internal Steering Under(Steering other) => new()
    {
        Prefetch = other.Prefetch ?? Prefetch, Parallel = other.Parallel ?? Parallel,
        MaxPerSecond = other.MaxPerSecond ?? MaxPerSecond, BrakeAfter = other.BrakeAfter ?? BrakeAfter,
    };

    /// <summary>What is wrong with it whatever a worker's settings are.</summary>
    internal IEnumerable<string> Problems()
    {
        if (IsEmpty) yield return "it says nothing: name a prefetch, a number of handlers, a rate or a brake";
        // As many as there may be: what does not fit together only a worker can know.
        var options = new ReceiverOptions { Prefetch = GentleCourier.Prefetch.Unlimited }.With(this);
        foreach (var problem in options.Problems()) yield return problem;
    }

    /// <summary>As <c>prefetch 50, parallel 8</c>.</summary>
    public override string ToString() => string.Join(", ", Parts());

    private IEnumerable<string> Parts()
    {
        if (Prefetch is { } prefetch) yield return $"prefetch {prefetch}";
        if (Parallel is { } parallel) yield return string.Create(CultureInfo.InvariantCulture, $"parallel {parallel}");
        if (MaxPerSecond is { } most)
            yield return string.Create(CultureInfo.InvariantCulture, $"at most {most} a second");
        if (BrakeAfter is { } after)
            yield return after == 0 ? "no brake"
                : string.Create(CultureInfo.InvariantCulture, $"brake after {after}");
    }
}

/// <summary>How it is kept in a database.</summary>
[JsonSerializable(typeof(SteeringText))]
[JsonSourceGenerationOptions(
    JsonSerializerDefaults.Web, DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull)]
internal sealed partial class SteeringJson : JsonSerializerContext
{
    public static string Write(Steering steering) => JsonSerializer.Serialize(
        new SteeringText(steering.Prefetch?.ToString(), steering.Parallel, steering.MaxPerSecond, steering.BrakeAfter),
        Default.SteeringText);

    /// <summary>Null where it cannot be read, as what a newer version may have written.</summary>
    public static Steering? Read(string json)
    {
        try
        {
            var written = JsonSerializer.Deserialize(json, Default.SteeringText)!;
            return new Steering
            {
                Prefetch = Prefetch.TryParse(written.Prefetch, out var prefetch) ? prefetch : null,
                Parallel = written.Parallel, MaxPerSecond = written.MaxPerSecond, BrakeAfter = written.BrakeAfter,
            };
        }
        catch (JsonException)
        {
            return null;
        }
    }
}

internal sealed record SteeringText(string? Prefetch, int? Parallel, double? MaxPerSecond, int? BrakeAfter);
