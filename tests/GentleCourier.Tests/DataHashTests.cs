using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using CsCheck;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Tests;

public sealed class DataHashTests
{
    private static long HashOf(string data, string type = "test.tap", string more = "") =>
        DataHash.Of(CourierEvent.Read(Json(data, type, more)));

    private static byte[] Json(string data, string type = "test.tap", string more = "", string id = "1") =>
        Encoding.UTF8.GetBytes(
            $$"""{"specversion":"1.0","id":"{{id}}","source":"/t","type":"{{type}}"{{more}},"data":{{data}} }""");

    [Theory]
    [InlineData("""{"a":1,"b":[true,null,"x"]}""", """{ "b" : [ true , null , "\u0078" ] , "a" : 1.0 }""")]
    [InlineData("100", "1e2")]
    [InlineData("0.5", "5E-1")]
    [InlineData("-0", "0.00")]
    [InlineData("1200.0", "12e2")]
    [InlineData("12345678901234567890123456789012345678901", "1234567890123456789012345678901234567890.1e1")]
    [InlineData("\"\\ud83d\\ude00\"", "\"\U0001F600\"")]
    public void What_says_the_same_has_the_same(string one, string other) => Assert.Equal(HashOf(one), HashOf(other));

    [Theory]
    [InlineData("1", "-1")]
    [InlineData("1", "\"1\"")]
    [InlineData("12", "120")]
    [InlineData("0.1", "0.01")]
    [InlineData("12345678901234567890123456789012345678901", "12345678901234567890123456789012345678902")]
    [InlineData("[1,2]", "[2,1]")]
    [InlineData("[[1],2]", "[[1,2]]")]
    [InlineData("[12]", "[1,2]")]
    [InlineData("""{"a":1}""", """{"a":1,"b":null}""")]
    [InlineData("""{"ab":"c"}""", """{"a":"bc"}""")]
    [InlineData("null", "false")]
    public void What_says_something_else_has_another(string one, string other) =>
        Assert.NotEqual(HashOf(one), HashOf(other));

    [Fact]
    public void The_type_counts_and_time_and_trace_do_not()
    {
        Assert.NotEqual(HashOf("1"), HashOf("1", "test.other"));
        Assert.Equal(HashOf("1"), HashOf("1", more:
            ",\"time\":\"2026-11-30T06:00:00Z\","
            + "\"traceparent\":\"00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01\""));
    }

    private static readonly Gen<JsonNode?> Node = Gen.Recursive<JsonNode?>((depth, inner) =>
    {
        var leaf = Gen.OneOf(
            Gen.Bool.Select(JsonNode? (_) => null), Gen.Bool.Select(JsonNode? (b) => b),
            Gen.Double.Where(double.IsFinite).Select(JsonNode? (d) => d),
            Gen.String.AlphaNumeric.Select(JsonNode? (s) => s));
        return depth > 3 ? leaf : Gen.OneOf(leaf,
            inner.Array[0, 4].Select(JsonNode? (items) => new JsonArray([.. items.Select(i => i?.DeepClone())])),
            Gen.Select(Gen.String.AlphaNumeric, inner).Array[0, 4].Select(JsonNode? (members) => new JsonObject(
                members.DistinctBy(m => m.Item1).Select(m => KeyValuePair.Create(m.Item1, m.Item2?.DeepClone())))));
    });

    /// <summary>However it is written: members in another order, and with room between.</summary>
    [Fact]
    public void The_order_of_names_and_how_it_is_written_do_not_count() => Node.Sample(node => Assert.Equal(
        HashOf(node?.ToJsonString() ?? "null"),
        HashOf(Turned(node)?.ToJsonString(new JsonSerializerOptions { WriteIndented = true }) ?? "null")));

    private static JsonNode? Turned(JsonNode? node) => node switch
    {
        JsonObject members => new JsonObject(
            members.Reverse().Select(m => KeyValuePair.Create(m.Key, Turned(m.Value)))),
        JsonArray items => new JsonArray([.. items.Select(Turned)]),
        _ => node?.DeepClone(),
    };

    [Fact]
    public void An_event_is_known_by_source_id_and_what_it_says_and_what_is_none_by_all_of_it()
    {
        var known = EventIdentity.Of(Json("1"));
        Assert.Equal(known, EventIdentity.Of(Json("1.0", more: ",\"time\":\"2026-11-30T06:00:00Z\"")));
        Assert.NotEqual(known, EventIdentity.Of(Json("2")));
        Assert.NotEqual(known, EventIdentity.Of(Json("1", id: "2")));
        Assert.NotEqual(EventIdentity.Of("Longsand;0417"u8.ToArray()), EventIdentity.Of("Longsand;0418"u8.ToArray()));
        Assert.Equal(32, known.Length);
    }
}
