using System.Diagnostics;

namespace GentleCourier.Telemetry;

/// <summary>
/// A span, or none. Listeners are others' code: what they throw must not become an event's failure.
/// </summary>
internal readonly struct Span(Activity? activity) : IDisposable
{
    /// <summary>Says something more of it, where anybody listens.</summary>
    public void Tag(string name, object? value) => activity?.SetTag(name, value);

    public void Failed(Exception e)
    {
        activity?.SetStatus(ActivityStatusCode.Error, Words.Of(e));
        activity?.SetTag("error.type", Words.NameOf(e));
    }

    public void Dispose()
    {
        try
        {
            activity?.Dispose();
        }
        catch (Exception)
        {
            // It is over all the same.
        }
    }
}
