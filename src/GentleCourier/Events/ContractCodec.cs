using System.Collections.Concurrent;
using System.Diagnostics;
using System.Diagnostics.CodeAnalysis;
using System.Reflection;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;
using GentleCourier.Engines;

namespace GentleCourier.Events;

/// <summary>Turns contracts into encoded events, and bodies into contracts. Thread-safe.</summary>
internal sealed class ContractCodec(JsonSerializerOptions json, string? source, int maxEventBytes, TimeProvider clock)
{
    private const string DataPath = "data.";

    private static readonly JsonDocumentOptions Once = new()
    {
        AllowDuplicateProperties = false, MaxDepth = JsonRule.Deepest - 1,
    };

    private static readonly ConcurrentDictionary<Type, WireTypeAttribute?> WireTypes = new();

    private readonly Lazy<JsonSerializerOptions> strict = new(
        () => new(json) { Encoder = new StrictEncoder(json.Encoder ?? JavaScriptEncoder.Default) });

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
    public static string WireTypeOf(Type contract) => Checked(contract, Declared(contract).Name);

    /// <summary>The wire types that receivers of a contract handle: its own, and its former ones.</summary>
    /// <exception cref="ContractException">The contract declares no wire type, or one that is not valid.</exception>
    public static IEnumerable<string> WireTypesOf(Type contract) =>
        Declared(contract).FormerNames.Prepend(WireTypeOf(contract)).Select(name => Checked(contract, name));

    private static WireTypeAttribute Declared(Type contract) =>
        WireTypes.GetOrAdd(contract, static type => type.GetCustomAttribute<WireTypeAttribute>())
        ?? throw new ContractException(
            contract.Name, null, "has no declared wire type; add [WireType(\"…\")] with a stable name to it");

    private static string Checked(Type contract, string name) => Names.IsWireType(name) ? name
        : throw new ContractException(
            contract.Name, null, $"its wire type '{name}' is not valid: {Names.WireTypeRule}");

    public EncodedEvent Encode<TContract>(TContract contract, EventOptions said) where TContract : notnull
    {
        var type = WireTypeOf(typeof(TContract));
        var attributes = AttributesOf(type, said);
        var typeInfo = TypeInfo<TContract>(type);
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
        CheckWritten(contract, typeInfo, type, encoded);
        if (encoded.Length > maxEventBytes)
            throw TooLarge(
                type, FieldFinder.Largest(contract, typeInfo), encoded, ". The field named is the largest one");
        return new EncodedEvent(attributes.Id, type, attributes.PartitionKey, encoded);
    }

    /// <summary>The same of data that is JSON already, and that no class stands for.</summary>
    public EncodedEvent Encode(string type, ReadOnlyMemory<byte> json, EventOptions said)
    {
        if (!Names.IsWireType(type))
            throw new ContractException(
                type, null, $"its wire type is not valid: {Names.WireTypeRule}");
        var attributes = AttributesOf(type, said);
        byte[] encoded;
        try
        {
            // Receivers take no name twice, since two readers may then read two things.
            using (JsonDocument.Parse(json, Once))
            {
            }
            encoded = EventJson.Write(attributes, json, static (writer, data) => writer.WriteRawValue(data.Span));
        }
        catch (Exception e) when (e is JsonException or ArgumentException)
        {
            throw new ContractException(type, null, $"its data is not JSON: {e.Message}", e);
        }
        CheckReadable(type, encoded);
        if (encoded.Length > maxEventBytes) throw TooLarge(type, null, encoded, "");
        return new EncodedEvent(attributes.Id, type, attributes.PartitionKey, encoded);
    }

    private CourierEvent AttributesOf(string type, EventOptions said)
    {
        CheckText(type, "id", said.Id, TextRule.LongestKey);
        CheckText(type, "subject", said.Subject, TextRule.LongestText);
        CheckText(type, "partition key", said.PartitionKey, TextRule.LongestKey);
        CheckText(type, "correlation id", said.CorrelationId, TextRule.LongestKey);
        if (said.Extensions is { } extensions && Extensions.ProblemOf(extensions) is { } problem)
            throw new ContractException(type, null, $"the event {problem}");
        var (now, activity, cause) = (clock.GetUtcNow(), Activity.Current, WriteFlow.Current?.Handled);
        return new CourierEvent
        {
            Id = said.Id ?? Guid.CreateVersion7(now).ToString(),
            Source = source ?? throw new ContractException(
                type, null, "this process has no Courier:Source to publish in the name of"),
            Type = type,
            Time = said.Time ?? said.Due?.From(now) ?? now,
            Subject = said.Subject,
            PartitionKey = said.PartitionKey,
            TraceParent = activity?.IdFormat == ActivityIdFormat.W3C ? activity.Id : null,
            CorrelationId = said.CorrelationId ?? Inherited(cause?.CorrelationId) ?? cause?.Id,
            CausationId = cause?.Id,
            Extensions = said.Extensions ?? CourierEvent.NoExtensions,
            // It came from elsewhere, and is nobody's business here.
            TraceState = activity?.TraceStateString is { } state
                && TextRule.ProblemOf(state, TextRule.LongestText) is null ? state : null,
        };
    }

    /// <summary>It may come from elsewhere, and be none that could be published.</summary>
    private static string? Inherited(string? correlation) =>
        correlation is not null && TextRule.ProblemOf(correlation, TextRule.LongestKey) is null ? correlation : null;

    private ContractException TooLarge(string type, string? field, byte[] encoded, string more) => new(
        type, field,
        $"the event has {encoded.Length:N0} bytes, more than the limit of {maxEventBytes:N0} (setting MaxEventBytes); "
        + $"put large content elsewhere and publish a reference to it{more}");

    private static void CheckText(string contract, string what, string? text, int longest)
    {
        if (text is not null && TextRule.ProblemOf(text, longest) is { } problem)
            throw new ContractException(contract, null, $"the event's {what} {problem}");
    }

    /// <summary>What is published must be read by everybody, and be the same.</summary>
    private void CheckWritten<TContract>(
        TContract contract, JsonTypeInfo<TContract> typeInfo, string type, byte[] encoded) where TContract : notnull
    {
        // The writer replaces half of a surrogate pair by this. Where it stands in the text itself, all is well.
        if (encoded.AsSpan().IndexOf("\uFFFD"u8) >= 0 || encoded.AsSpan().IndexOf("\\uFFFD"u8) >= 0)
        {
            var strictly = (JsonTypeInfo<TContract>)strict.Value.GetTypeInfo(typeof(TContract));
            if (FieldFinder.FirstUnserialisable(contract, strictly) is { Field: { } field, Cause: { } cause })
                throw new ContractException(type, field, $"cannot be written as JSON: {cause.Message}", cause);
        }
        CheckReadable(type, encoded);
    }

    private static void CheckReadable(string type, byte[] encoded)
    {
        try
        {
            EventJson.Read(encoded);
        }
        catch (UnreadableEventException e)
        {
            var isInData = e.Path?.StartsWith(DataPath, StringComparison.Ordinal) == true;
            throw new ContractException(
                type, isInData ? e.Path![DataPath.Length..] : null,
                $"cannot be published, since nobody could read it: {e.Message}", e);
        }
    }

    /// <exception cref="ContractException">The body is not JSON, or does not fit the contract.</exception>
    public TContract Decode<TContract>(CourierEvent @event)
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
            var unmet = e.Path is null || !e.Message.Contains("could not be converted", StringComparison.Ordinal) ? null
                : Expectation.Unmet(TypeInfo<TContract>(@event.Type), @event.Data, e.Path);
            throw new ContractException(
                @event.Type, field, $"the data does not fit the contract: {unmet ?? Plain(e.Message)}", e);
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
