using System.Text.Json.Serialization;

namespace GentleCourier.Events;

/// <summary>How the library's own plain values are written, without reflection.</summary>
[JsonSerializable(typeof(string))]
[JsonSerializable(typeof(DateTimeOffset))]
internal sealed partial class PlainJson : JsonSerializerContext;
