using System.Text;
using System.Text.Json.Nodes;
using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;
using GentleCourier.Events;

namespace GentleCourier.Amqp.Tests;

/// <summary>Events as messages, and back (CloudEvents AMQP protocol binding 1.0.2).</summary>
public sealed class CloudEventTests
{
    private static string Read(byte[] message)
    {
        using var reader = new CloudEventReader();
        return Encoding.UTF8.GetString(reader.Read(Message.Of(message)));
    }

    private static byte[] Write(Properties? properties, WireMap? attributes, byte section, object? body)
    {
        using var buffer = new WireBuffer();
        if (properties is not null) Properties.Shape.Write(buffer, properties);
        if (attributes is not null)
        {
            Message.Begin(buffer, Section.ApplicationProperties);
            WireValue.Any.Write(buffer, attributes);
        }
        Message.Begin(buffer, section);
        WireValue.Any.Write(buffer, body);
        return buffer.Written.ToArray();
    }

    private static WireMap Attributes(string prefix = "cloudEvents_") => new()
    {
        { prefix + "specversion", "1.0" }, { prefix + "id", "7" }, { prefix + "source", "/gates" },
        { prefix + "type", "test.tap" },
    };

    private static string Refusal(byte[] message) =>
        Assert.Throws<UnreadableEventException>(() => Read(message)).Message;

    public static TheoryData<string> Events =>
    [
        """
        {"specversion":"1.0","id":"1","source":"/g","type":"t"}
        """,
        """
        {"specversion":"1.0","id":"é\"\u0041","source":"/g","type":"t","datacontenttype":"application/json",
         "data":null}
        """,
        """
        {"specversion":"1.0","id":"1","source":"/g","type":"t","time":"2026-11-26T10:00:00.1234567+01:00",
         "subject":"Longsand","partitionkey":"card-7",
         "traceparent":"00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01",
         "datacontenttype":"application/json","data":{"a":[1,{"b":"é"}]}}
        """,
        """
        {"specversion":"1.0","id":"1","source":"/g","type":"t","count":-3,"yes":true,"no":false,
         "datacontenttype":"application/vnd.taps+json; charset=utf-8","data":"text"}
        """,
        """
        {"specversion":"1.0","id":"1","source":"/g","type":"t","datacontenttype":"image/png",
         "data_base64":"AAEC/w=="}
        """,
        """
        {"specversion":"1.0","id":"1","source":"/g","type":"t","datacontenttype":"text/plain","data":"a text"}
        """,
        """
        {"specversion":"1.0","id":"1","source":"/g","type":"t","big":12345678901,"deep":{"a":1},
         "datacontenttype":"application/json","data":1}
        """,
    ];

    [Theory]
    [MemberData(nameof(Events))]
    public void An_event_comes_back_as_it_went(string json)
    {
        var back = Read(Samples.MessageOf(json));
        Assert.True(JsonNode.DeepEquals(JsonNode.Parse(json), JsonNode.Parse(back)), back);
        Assert.Equal(CourierEvent.Read(Encoding.UTF8.GetBytes(json)).Data.ToArray(),
            CourierEvent.Read(Encoding.UTF8.GetBytes(back)).Data.ToArray());
    }

    [Fact]
    public void What_has_no_content_type_is_json_when_it_comes_back()
    {
        var back = JsonNode.Parse(Read(Samples.MessageOf(Samples.Json(1))))!;
        Assert.Equal("application/json", (string?)back["datacontenttype"]);
        Assert.Equal(1, (int)back["data"]!["number"]!);
    }

    [Fact]
    public void It_is_durable_and_its_attributes_are_application_properties_for_everybody()
    {
        var message = Message.Of(Samples.MessageOf(Samples.Json(3)));
        var header = new WireReader(message.Header.Span);
        var read = new Header();
        Header.Shape.ReadFields(ref header, read);
        Assert.True(read.Durable);
        var reader = new WireReader(message.ApplicationProperties.Span);
        var attributes = WireValue.Map.Read(ref reader)!;
        Assert.Equal(("1.0", "tap-3", "/gates", "test.tap"),
            (attributes["cloudEvents_specversion"], attributes["cloudEvents_id"], attributes["cloudEvents_source"],
                attributes["cloudEvents_type"]));
        Assert.Equal("""{"number":3}""", Encoding.UTF8.GetString(message.Body.Span));
    }

    [Theory]
    [InlineData("cloudEvents_")]
    [InlineData("cloudEvents:")]
    public void Attributes_of_either_prefix_and_every_type_are_read(string prefix)
    {
        var attributes = Attributes(prefix);
        attributes.Add(prefix + "time", new Timestamp(1_700_000_000_000));
        attributes.Add(prefix + "flag", true);
        attributes.Add(prefix + "number", 7);
        attributes.Add(prefix + "bytes", new Binary(new byte[] { 1 }));
        attributes.Add(prefix + "nothing", null);
        attributes.Add("somebody-elses", 1.5);
        attributes.Add(prefix + "Wrong Name", "is somebody else's");
        var json = Read(Write(null, attributes, Section.Data, new Binary("[1]"u8.ToArray())));
        var expected = """
            {"specversion":"1.0","id":"7","source":"/gates","type":"test.tap","time":"2023-11-14T22:13:20+00:00",
             "flag":true,"number":7,"bytes":"AQ==","data":[1]}
            """;
        Assert.True(JsonNode.DeepEquals(JsonNode.Parse(expected), JsonNode.Parse(json)), json);
        Assert.Equal(2023, CourierEvent.Read(Encoding.UTF8.GetBytes(json)).Time!.Value.Year);
    }

    [Theory]
    [InlineData("application/cloudevents+json")]
    [InlineData("Application/CloudEvents+JSON; charset=UTF-8")]
    public void Structured_events_are_read_whatever_section_carries_them(string type)
    {
        var properties = new Properties { ContentType = type };
        Assert.Equal(Samples.Json(1), Read(Write(properties, null, Section.Value, Samples.Json(1))));
        var bytes = new Binary(Encoding.UTF8.GetBytes(Samples.Json(1)));
        Assert.Equal(Samples.Json(1), Read(Write(properties, null, Section.Value, bytes)));
        Assert.Equal(Samples.Json(1), Read(Write(properties, null, Section.Data, bytes)));
        var first = Write(properties, null, Section.Data, new Binary(bytes.Bytes[..5]));
        var second = Write(null, null, Section.Data, new Binary(bytes.Bytes[5..]));
        Assert.Equal(Samples.Json(1), Read([.. first, .. second]));
    }

    [Fact]
    public void What_is_no_event_says_why()
    {
        Assert.Contains("no attributes of a CloudEvents event", Refusal(Write(null, null, Section.Value, "hello")),
            StringComparison.Ordinal);
        Assert.Contains("'text/plain', is not application/cloudevents+json",
            Refusal(Write(new() { ContentType = "text/plain" }, new() { { "id", "1" } }, Section.Data, new Binary())),
            StringComparison.Ordinal);
        Assert.Contains("only application/cloudevents+json can be read",
            Refusal(Write(new() { ContentType = "application/cloudevents-batch+json" }, null, Section.Data,
                new Binary())),
            StringComparison.Ordinal);
        Assert.Contains("only UTF-8", Refusal(Write(
            new() { ContentType = "application/cloudevents+json; charset=utf-16" }, null, Section.Data, new Binary())),
            StringComparison.Ordinal);
        Assert.Contains("content-encoding is 'gzip'", Refusal(Write(
            new() { ContentEncoding = "gzip" }, Attributes(), Section.Data, new Binary())), StringComparison.Ordinal);
        Assert.Contains("a sequence of values",
            Refusal(Write(null, Attributes(), Section.Sequence, Array.Empty<object?>())),
            StringComparison.Ordinal);
        Assert.Contains("neither text nor bytes", Refusal(Write(null, Attributes(), Section.Value, 5)),
            StringComparison.Ordinal);
    }

    /// <summary>What one attribute is like is nobody's fault here: it is kept, and the event is handled.</summary>
    [Theory]
    [InlineData(1.5, "1.5")]
    [InlineData(12345678901L, "12345678901")]
    [InlineData(ulong.MaxValue, "18446744073709551615")]
    [InlineData(float.NaN, "NaN")]
    [InlineData((ushort)7, "7")]
    public void An_attribute_of_a_type_that_cloudevents_does_not_have_costs_nothing(object value, string text)
    {
        var attributes = Attributes();
        attributes.Add("cloudEvents_odd", value);
        attributes.Add("cloudEvents_list", new object?[] { 1, "a" });
        attributes.Add("cloudEvents_large", new object?[100_000]);
        var json = Read(Write(null, attributes, Section.Data, new Binary("1"u8.ToArray())));
        var read = CourierEvent.Read(Encoding.UTF8.GetBytes(json));
        Assert.Equal(("7", text), (read.Id, read.Extensions["odd"]));
        Assert.Equal("[1,\"a\"]", JsonNode.Parse(json)!["list"]!.ToJsonString());
        Assert.Equal("(100009 bytes)", read.Extensions["large"]);
    }

    [Fact]
    public void A_time_without_its_zone_is_not_guessed()
    {
        static string With(string time) => $$"""
            {"specversion":"1.0","id":"1","source":"/g","type":"t","time":"{{time}}","data":1}
            """;
        foreach (var good in (string[])["2026-05-01T08:00:00Z", "2026-05-01T08:00:00\\u002B02:00",
            "2026-05-01T08:00:00.123-02:00"])
            Assert.NotNull(CourierEvent.Read(Encoding.UTF8.GetBytes(With(good))).Time);
        foreach (var bad in (string[])["2026-05-01T08:00:00", "2026-05-01", "2026-05-01T08:00:00.1234567"])
            Assert.Contains("with its zone", Assert.Throws<UnreadableEventException>(
                () => CourierEvent.Read(Encoding.UTF8.GetBytes(With(bad)))).Message, StringComparison.Ordinal);
    }

    /// <summary>Whoever finds it among the dead letters knows whose it is, and has all that was in it.</summary>
    [Fact]
    public void What_is_no_event_is_kept_with_all_that_can_be_read_of_it()
    {
        var properties = new Properties
        {
            MessageId = "m-1", Subject = "tide", CorrelationId = 7ul, ContentType = "application/json",
            ContentEncoding = "gzip", CreationTime = new Timestamp(0),
        };
        var attributes = Attributes();
        attributes.Add("pier", "Longsand");
        var bytes = Write(properties, attributes, Section.Data, new Binary(new byte[] { 0x1f, 0x8b }));
        var expected = """
            {"specversion":"1.0","id":"7","source":"/gates","type":"test.tap","datacontenttype":"application/json",
             "data_base64":"H4s=","amqp":{"properties":{"message-id":"m-1","subject":"tide","correlation-id":7,
             "content-type":"application/json","content-encoding":"gzip","creation-time":"1970-01-01T00:00:00+00:00"},
             "application-properties":{"pier":"Longsand"}}}
            """;
        Assert.True(JsonNode.DeepEquals(JsonNode.Parse(expected), Kept(bytes)), Kept(bytes).ToJsonString());
        Assert.Equal("7", CourierEvent.Read(Encoding.UTF8.GetBytes(Kept(bytes).ToJsonString())).Id);

        // A part of it must not pass for all of it.
        foreach (var kept in (JsonNode[])[Kept([.. bytes, 0x00, 0x53, 0x10]), Kept(bytes, whole: 99_000_000)])
        {
            Assert.Equal("7", (string?)kept["id"]);
            Assert.Null(kept["data_base64"]);
        }
        Assert.Equal(99_000_000, (long)Kept(bytes, whole: 99_000_000)["amqp"]!["size"]!);
        Assert.Equal(Convert.ToBase64String(bytes), (string?)Kept(bytes, whole: 1)["amqp"]!["head_base64"]);

        static JsonNode Kept(byte[] bytes, long? whole = null) => JsonNode.Parse(
            Unread.KeepOf(bytes, Message.AsFarAsSound(bytes), whole))!;
    }

    /// <summary>What it costs to look through a message is what its bytes cost, whatever they say.</summary>
    [Fact]
    public void A_body_of_a_million_pieces_and_values_of_a_million_items_cost_what_their_bytes_cost()
    {
        const int Million = 1_000_000;
        using var pieces = new WireBuffer();
        for (var i = 0; i < Million; i++)
        {
            Message.Begin(pieces, Section.Data);
            WireTypes.WriteBinary(pieces, "1"u8);
        }
        Assert.Equal(Million, Message.Of(pieces.Written.ToArray()).Body.Length);

        byte[] list =
            [.. Convert.FromHexString("d0000f424600" + "0f4242"), .. Enumerable.Repeat((byte)0x45, Million + 2)];
        byte[][] messages =
        [
            // As annotations, as a message-id, as an attribute, as the body.
            [0x00, 0x53, 0x72, .. MapOf("x-opt-other"), .. list], [0x00, 0x53, 0x73, .. ListOf(list)],
            [0x00, 0x53, 0x74, .. MapOf("cloudEvents_id"), .. list], [0x00, 0x53, 0x77, .. list],
        ];
        foreach (var bytes in messages)
        {
            var before = GC.GetAllocatedBytesForCurrentThread();
            var message = Message.AsFarAsSound(bytes);
            _ = Notes.Of(message);
            using var reader = new CloudEventReader();
            Assert.Throws<UnreadableEventException>(() => reader.Read(message));
            _ = Unread.KeepOf(bytes, message, null);
            Assert.InRange(GC.GetAllocatedBytesForCurrentThread() - before, 0, 8 * Million);
        }

        static byte[] MapOf(string name) =>
            [0xd1, 0x00, 0x0f, 0x42, (byte)(0x4f + 2 + name.Length), 0x00, 0x00, 0x00, 0x02, 0xa1, (byte)name.Length,
                .. Encoding.ASCII.GetBytes(name)];

        static byte[] ListOf(byte[] item) =>
            [0xd0, 0x00, 0x0f, 0x42, 0x4f, 0x00, 0x00, 0x00, 0x01, .. item];
    }

    [Theory]
    [InlineData("1,\"type\":\"another\"")]
    [InlineData("{")]
    [InlineData("}")]
    [InlineData("1 2")]
    public void Data_that_is_more_or_less_than_one_value_becomes_no_attributes(string data) =>
        Assert.Contains("is said to be JSON, and is not", Refusal(Write(
            new() { ContentType = "application/json" }, Attributes(), Section.Data,
            new Binary(Encoding.UTF8.GetBytes(data)))), StringComparison.Ordinal);
}
