using System.Collections.Concurrent;
using System.Diagnostics;
using System.Diagnostics.CodeAnalysis;
using System.Reflection;
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;
using GentleCourier.Engines;

namespace GentleCourier.Events;

/// <summary>Turns contracts into encoded events, and bodies into contracts. Thread-safe.</summary>
internal sealed class ContractCodec(JsonSerializerOptions json, string? source, int maxEventBytes, TimeProvider clock)
{
    private static readonly ConcurrentDictionary<Type, string?> WireTypes = new();

    /// <summary>
    /// What bodies look like by default: camel-case names, enums by name, and no silent gaps: a null where the
    /// contract says "not null", a missing constructor parameter and a repeated field are errors. Fields that the
    /// contract does not know are ignored, so that publishers can add some.
    /// </summary>
    [UnconditionalSuppressMessage("Trimming", "IL2026", Justification = "Reached only where reflection is enabled.")]
    [UnconditionalSuppressMessage("AOT", "IL3050", Justification = "Reached only where reflection is enabled.")]
    public static JsonSerializerOptions DefaultJson()
    {
        var options = new JsonSerializerOptions(JsonSerializerDefaults.Web)
        {
            NumberHandling = JsonNumberHandling.Strict,
            PropertyNameCaseInsensitive = false,
            RespectNullableAnnotations = true,
            RespectRequiredConstructorParameters = true,
            AllowDuplicateProperties = false,
        };
        if (JsonSerializer.IsReflectionEnabledByDefault)
        {
            options.Converters.Add(new JsonStringEnumConverter());
            options.TypeInfoResolver = new DefaultJsonTypeInfoResolver();
        }
        return options;
    }

    /// <exception cref="ContractException">The contract declares no wire type, or one that is not valid.</exception>
    public static string WireTypeOf(Type contract)
    {
        var name = WireTypes.GetOrAdd(contract, static type => type.GetCustomAttribute<WireTypeAttribute>()?.Name)
            ?? throw new ContractException(
                contract.Name, null, "has no declared wire type; add [WireType(\"…\")] with a stable name to it");
        return Names.IsWireType(name)
            ? name
            : throw new ContractException(
                contract.Name, null, $"its wire type '{name}' is not valid: 1 to 255 letters, digits, '.', '-' or '_'");
    }

    public EncodedEvent Encode<TContract>(TContract contract, EventDraft draft) where TContract : notnull
    {
        var type = WireTypeOf(typeof(TContract));
        var id = draft.Id ?? Guid.CreateVersion7(clock.GetUtcNow()).ToString();
        if (id.Length is 0 or > 255)
            throw new ContractException(type, null, "the event's id must have 1 to 255 characters");

        var typeInfo = TypeInfo<TContract>(type);
        var activity = Activity.Current;
        var attributes = new Event
        {
            Id = id,
            Source = source ?? throw new ContractException(
                type, null, "this process has no Courier:Source to publish in the name of"),
            Type = type,
            Time = draft.Time ?? clock.GetUtcNow(),
            Subject = draft.Subject,
            PartitionKey = draft.PartitionKey,
            TraceParent = activity?.IdFormat == ActivityIdFormat.W3C ? activity.Id : null,
            TraceState = activity?.TraceStateString,
        };

        byte[] encoded;
        try
        {
            encoded = EventJson.Write(
                attributes, (contract, typeInfo), static (writer, it) =>
                    JsonSerializer.Serialize(writer, it.contract, it.typeInfo));
        }
        catch (Exception e) when (e is not OutOfMemoryException)
        {
            var (field, cause) = FieldFinder.FirstUnserialisable(contract, typeInfo);
            throw new ContractException(type, field, $"cannot be written as JSON: {(cause ?? e).Message}", e);
        }
        if (encoded.Length > maxEventBytes)
        {
            throw new ContractException(
                type, FieldFinder.Largest(contract, typeInfo),
                $"the event has {encoded.Length:N0} bytes, more than the limit of {maxEventBytes:N0} (setting "
                + "MaxEventBytes); "
                + "put large content elsewhere and publish a reference to it. The field named is the largest one");
        }
        return new EncodedEvent(id, type, draft.PartitionKey, encoded);
    }

    /// <exception cref="ContractException">The body is not JSON, or does not fit the contract.</exception>
    public TContract Decode<TContract>(Event @event)
    {
        if (!@event.HasJsonData)
            throw new ContractException(@event.Type, null, $"the body is '{@event.DataContentType}', not JSON");
        if (@event.Data.IsEmpty)
            throw new ContractException(@event.Type, null, "the event has no data");
        try
        {
            return JsonSerializer.Deserialize(@event.Data.Span, TypeInfo<TContract>(@event.Type))
                ?? throw new ContractException(@event.Type, null, "the data is null");
        }
        catch (JsonException e)
        {
            var field = e.Path is { Length: > 2 } path ? path[2..] : null;
            throw new ContractException(
                @event.Type, field, $"the data does not fit the contract: {Plain(e.Message)}", e);
        }
    }

    private JsonTypeInfo<TContract> TypeInfo<TContract>(string contract)
    {
        try
        {
            return (JsonTypeInfo<TContract>)json.GetTypeInfo(typeof(TContract));
        }
        catch (Exception e) when (e is NotSupportedException or InvalidOperationException)
        {
            throw new ContractException(
                contract, null, $"its class {typeof(TContract).Name} cannot be mapped to JSON: {e.Message}", e);
        }
    }

    // The serialiser appends " Path: $.x | LineNumber: …", which the field's name says already.
    private static string Plain(string message)
    {
        var path = message.IndexOf(" Path: ", StringComparison.Ordinal);
        return path < 0 ? message : message[..path];
    }
}
