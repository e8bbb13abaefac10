using System.Security.Cryptography;
using System.Text;
using GentleCourier.Events;

namespace GentleCourier.Engines;

/// <summary>
/// What an event is known by where it is kept aside: its source, its id and what it says; or, where those cannot be
/// read, all of it.
/// </summary>
internal static class EventIdentity
{
    /// <param name="json">The event in CloudEvents' JSON format, UTF-8; or whatever it is.</param>
    /// <returns>32 hexadecimal digits.</returns>
    public static string Of(ReadOnlyMemory<byte> json)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        try
        {
            var @event = CourierEvent.Read(json);
            hash.AppendData(Encoding.UTF8.GetBytes($"{@event.Source}\0{@event.Id}\0{DataHash.Of(@event)}"));
        }
        catch (UnreadableEventException)
        {
            hash.AppendData(json.Span);
        }
        return Convert.ToHexStringLower(hash.GetHashAndReset().AsSpan(0, 16));
    }
}
