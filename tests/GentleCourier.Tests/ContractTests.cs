using System.Diagnostics;
using System.Text;
using System.Text.Json;
using CsCheck;
using GentleCourier.Events;

namespace GentleCourier.Tests;

public sealed class ContractTests
{
    private static readonly TimeProvider Clock = TimeProvider.System;

    private static ContractCodec Codec(int limit = 256 * 1024) =>
        new(ContractCodec.DefaultJson(), "/test/harbour", limit, Clock);

    [WireType("test.passenger")]
    public sealed record Passenger(string Name, Gender? Kind, IReadOnlyList<Bag> Bags, double Weight = 1);

    public enum Gender
    {
        Gull,
        Tern,
    }

    public sealed record Bag(string Label, double Weight);

    public sealed record Undeclared(int Number);

    [WireType("no spaces, please")]
    public sealed record BadlyNamed(int Number);

    [WireType("test.knot")]
    public sealed class Knot
    {
        public string Name { get; set; } = "k";

        public Knot? Other { get; set; }
    }

    [WireType("test.trap")]
    public sealed class Trap
    {
        public int Fine => 1;

        public int Sprung => throw new InvalidOperationException("snap");
    }

    [WireType("test.pointer")]
    public sealed class Pointer
    {
        public IntPtr Address { get; set; }
    }

    private static ContractException Refused<T>(T contract, int limit = 256 * 1024) where T : notnull =>
        Assert.Throws<ContractException>(() => EventDraft.Of(contract).Encode(Codec(limit)));

    /// <summary>Two readers may read two things of it, so receivers take it from nobody.</summary>
    [Theory]
    [InlineData("""{"number":1,"number":2}""")]
    [InlineData("""[{"bags":[{"label":"a","weight":1,"\u006cabel":"b"}]}]""")]
    [InlineData("[1,")]
    [InlineData("1 2")]
    [InlineData("")]
    public void Data_that_is_json_already_is_one_value_and_has_no_name_twice(string json)
    {
        var error = Assert.Throws<ContractException>(
            () => EventDraft.OfJson("test.tap", Encoding.UTF8.GetBytes(json)).Encode(Codec()));
        Assert.Contains("its data is not JSON", error.Message, StringComparison.Ordinal);
    }

    /// <summary>Texts of all characters, whole or cut.</summary>
    private static readonly Gen<string> Texts = Gen.OneOf(
        Gen.String, Gen.Char.Array[0, 20].Select(c => new string(c)),
        Gen.Int[0, 0x10FFFF].Where(c => c is < 0xD800 or > 0xDFFF).Select(char.ConvertFromUtf32).Array[0, 10]
            .Select(string.Concat));

    [Fact]
    public void Attributes_of_others_are_read_as_texts_and_make_no_event_unreadable()
    {
        var read = CourierEvent.Read(
            """{"specversion":"1.0","id":"1","source":"/t","type":"t","correlationid":42,"causationid":{"a":[1]},"""u8
                .ToArray().Concat("""
                    "isurgent":true,"gate":7,"weight":1.5,"place":{"x":1},"dataschema":"/s","tenant":"north","data":1}
                    """u8.ToArray()).ToArray());
        Assert.Equal(("42", null), (read.CorrelationId, read.CausationId));
        Assert.Equal(
            [("gate", "7"), ("isurgent", "true"), ("tenant", "north"), ("weight", "1.5")],
            read.Extensions.Select(e => (e.Key, e.Value)).OrderBy(e => e.Key));
    }

    [Fact]
    public void Any_text_is_refused_with_its_place_named_or_arrives_equal() =>
        Gen.Select(Texts, Texts, Texts, Texts).Sample((name, subject, id, key) =>
        {
            var passenger = new Passenger(name, Gender.Tern, [new Bag(subject, 1)]);
            try
            {
                var encoded = EventDraft.Of(passenger, new() { Subject = subject, PartitionKey = key, Id = id })
                    .Encode(Codec());
                var read = CourierEvent.Read(encoded.Json);
                var back = Codec().Decode<Passenger>(read);
                return (read.Id, read.Subject, read.PartitionKey, back.Name, back.Bags[0].Label)
                    == (id, subject, key, name, subject);
            }
            catch (ContractException e)
            {
                // It says which, and that one is at fault.
                return e.Field is "name" ? !IsText(name) : e.Field is "bags[0].label" ? !IsText(subject)
                    : e.Message.Contains("the event's id ", StringComparison.Ordinal) ? !IsAttribute(id, 255)
                    : e.Message.Contains("the event's subject ", StringComparison.Ordinal) ? !IsAttribute(subject, 1024)
                    : e.Message.Contains("the event's partition key ", StringComparison.Ordinal)
                        && !IsAttribute(key, 255);
            }

            static bool IsText(string text) => Encoding.UTF8.GetString(Encoding.UTF8.GetBytes(text)) == text;

            static bool IsAttribute(string text, int longest) =>
                text.Length > 0 && text.Length <= longest && IsText(text)
                && !text.Any(char.IsControl) && !text.EnumerateRunes().Any(
                    r => (r.Value & 0xFFFE) == 0xFFFE || r.Value is >= 0xFDD0 and <= 0xFDEF);
        }, iter: 2000);

    [WireType("test.any")]
    public sealed record Anything(JsonElement Value);

    /// <summary>Values of any kind, written as people and programs write them.</summary>
    private static readonly Gen<string> Values = Gen.Recursive<string>((depth, inner) => Gen.OneOf(
        Gen.OneOf("null", "true", "0", "-0", "1e5", "1e999", "-1.5e400", "123456789012345678901234567890", "\"\"",
            "\"\\ud800\"", "\"\\ud83d\\ude00\"", "\"\\u0000\"", "0.1234567890123456789"),
        Gen.Double.Select(d => JsonSerializer.Serialize(double.IsFinite(d) ? d : 0)),
        Gen.String.Select(s => JsonSerializer.Serialize(s)),
        depth > 5 ? Gen.Const("[]") : inner.Array[0, 3].Select(a => $"[{string.Join(",", a)}]"),
        depth > 5 ? Gen.Const("{}")
            : inner.Array[0, 3].Select(a => $"{{{string.Join(",", a.Select((v, i) => $"\"k{i}\":{v}"))}}}")));

    [Fact]
    public void Any_json_value_is_refused_with_its_place_named_or_arrives_equal() => Values.Sample(text =>
    {
        using var value = JsonDocument.Parse(text);
        try
        {
            var read = CourierEvent.Read(EventDraft.Of(new Anything(value.RootElement)).Encode(Codec()).Json);
            return JsonElement.DeepEquals(value.RootElement, Codec().Decode<Anything>(read).Value);
        }
        catch (ContractException e)
        {
            return e.Field?.StartsWith("value", StringComparison.Ordinal) == true
                && (text.Contains("1e999", StringComparison.Ordinal) || text.Contains("e400", StringComparison.Ordinal)
                    || text.Contains("ud800", StringComparison.Ordinal));
        }
    });

    [Theory]
    [InlineData("""{"a":[1,{"b":1e999}]}""", "'data.a[1].b' is a number larger than readers can hold")]
    [InlineData("""[[0],"\ud800"]""", "'data[1]' is no text: it holds half of a surrogate pair")]
    [InlineData("""{"\ud800":1}""", "is no text")]
    public void What_readers_would_take_for_something_else_is_unreadable_with_its_place(string data, string problem)
    {
        var thrown = Assert.Throws<UnreadableEventException>(() => CourierEvent.Read(Encoding.UTF8.GetBytes(
            $$"""{"specversion":"1.0","id":"1","source":"/t","type":"t","x":[1e5],"data":{{data}} }""")));
        Assert.Contains(problem, thrown.Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("id", "a\\u0000b", "holds a control character (U+0000, at 1)")]
    [InlineData("source", "", "is missing or empty")]
    [InlineData("type", "\\ufffe", "holds a noncharacter (U+FFFE, at 0)")]
    [InlineData("partitionkey", "", "is empty")]
    public void An_attribute_that_no_database_takes_is_unreadable_and_named(string name, string value, string problem)
    {
        var attributes = new Dictionary<string, string>
        {
            ["specversion"] = "1.0", ["id"] = "1", ["source"] = "/t", ["type"] = "t", [name] = value,
        };
        var members = attributes.Select(a => $"\"{a.Key}\":\"{a.Value}\"");
        var thrown = Assert.Throws<UnreadableEventException>(
            () => CourierEvent.Read(Encoding.UTF8.GetBytes($"{{{string.Join(",", members)}}}")));
        Assert.Contains($"the CloudEvents attribute '{name}' {problem}", thrown.Message, StringComparison.Ordinal);
    }

    /// <summary>One depth for all: what can be published can be read.</summary>
    [Fact]
    public void Bodies_are_published_as_deep_as_they_can_be_read_and_no_deeper()
    {
        Anything Deep(int levels) =>
            new(JsonDocument.Parse(new string('[', levels) + new string(']', levels), new() { MaxDepth = 100 })
                .RootElement.Clone());
        var read = CourierEvent.Read(EventDraft.Of(Deep(62)).Encode(Codec()).Json);
        Assert.Equal(JsonValueKind.Array, Codec().Decode<Anything>(read).Value.ValueKind);
        for (var levels = 63; levels < 70; levels++)
            Assert.Contains("depth", Refused(Deep(levels)).Message, StringComparison.Ordinal);
    }

    [WireType("test.odd")]
    public sealed record Odd(
        int Count, Gender Kind, bool IsSo, DateTimeOffset At, Dictionary<string, long> Sums, Guid? Id);

    [Theory]
    [InlineData("""{"count":"many"}""", "count",
        "must be a whole number from -2,147,483,648 to 2,147,483,647, but is the text \"many\"")]
    [InlineData("""{"count":1.5}""", "count", "but is the number 1.5")]
    [InlineData("""{"kind":"Puffin"}""", "kind", "must be one of Gull, Tern, but is the text \"Puffin\"")]
    [InlineData("""{"isSo":"yes"}""", "isSo", "must be true or false, but is the text \"yes\"")]
    [InlineData("""{"at":"now"}""", "at", "must be a time (2031-06-14T06:00:00Z), but is the text \"now\"")]
    [InlineData("""{"sums":{"a":[]}}""", "sums.a", "must be a whole number of 64 bits, but is a list")]
    [InlineData("""{"id":7}""", "id", "must be a UUID, but is the number 7")]
    [InlineData("""7""", null, "must be an object, but is the number 7")]
    public void What_was_expected_and_what_came_is_said(string data, string? field, string said)
    {
        var @event = CourierEvent.Read(Encoding.UTF8.GetBytes(
            $$"""{"specversion":"1.0","id":"1","source":"/t","type":"test.odd","data":{{data}} }"""));
        var error = Assert.Throws<ContractException>(() => Codec().Decode<Odd>(@event));
        Assert.Equal(field, error.Field);
        Assert.Contains(said, error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Texts_for_people_are_made_fit_and_otherwise_left_as_they_are() => Texts.Sample(text =>
    {
        var fit = TextRule.Fit(text);
        return Encoding.UTF8.GetString(Encoding.UTF8.GetBytes(fit)) == fit && !fit.Contains('\0')
            && (fit == text || text.Any(c => c == '\0' || char.IsSurrogate(c)));
    });

    [Fact]
    public void Bodies_are_small_and_simple()
    {
        var encoded = EventDraft.Of(
            new Passenger("Pip", Gender.Gull, []), new() { Time = DateTimeOffset.Parse("2031-06-14T06:00:00Z") })
            .Encode(Codec());
        using var json = JsonDocument.Parse(encoded.Json);
        Assert.Equal(
            """{"name":"Pip","kind":"Gull","bags":[],"weight":1}""", json.RootElement.GetProperty("data").GetRawText());
        Assert.Equal("1.0", json.RootElement.GetProperty("specversion").GetString());
        Assert.Equal("2031-06-14T06:00:00+00:00", json.RootElement.GetProperty("time").GetString());
        Assert.Equal(7, Guid.Parse(encoded.Id).Version);
    }

    [Fact]
    public void Trace_context_is_taken_from_the_current_activity()
    {
        using var activity = new Activity("request").SetIdFormat(ActivityIdFormat.W3C).Start();
        activity.TraceStateString = "a=b";
        var read = CourierEvent.Read(EventDraft.Of(new Knot()).Encode(Codec()).Json);
        Assert.Equal((activity.Id, "a=b"), (read.TraceParent, read.TraceState));
    }

    [Fact]
    public void A_contract_without_a_valid_wire_type_is_refused_by_name()
    {
        Assert.Contains(
            "Undeclared: has no declared wire type", Refused(new Undeclared(1)).Message, StringComparison.Ordinal);
        Assert.Contains("BadlyNamed: its wire type 'no spaces, please' is not valid",
            Refused(new BadlyNamed(1)).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void What_cannot_be_serialised_is_refused_with_the_field_named()
    {
        Assert.Equal("bags[1].weight", Refused(new Passenger("Pip", null, [new("a", 1), new("b", double.NaN)])).Field);
        Assert.Equal("bags[0].label", Refused(new Passenger("Pip", null, [new(null!, 1)])).Field);
        Assert.Equal("name", Refused(new Passenger(null!, null, [])).Field);
        Assert.Equal("sprung", Refused(new Trap()).Field);
        Assert.Contains("snap", Refused(new Trap()).Message, StringComparison.Ordinal);
        Assert.Equal("address", Refused(new Pointer()).Field);
        var knot = new Knot();
        knot.Other = knot;
        Assert.StartsWith("other", Refused(knot).Field, StringComparison.Ordinal);
    }

    [Fact]
    public void What_is_too_large_is_refused_with_the_largest_field_named()
    {
        var error = Refused(new Passenger(new string('x', 3000), null, [new("small", 1)]), limit: 2000);
        Assert.Equal(("test.passenger", "name"), (error.Contract, error.Field));
        Assert.Contains(
            "more than the limit of 2,000 (setting MaxEventBytes)", error.Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("""{"name":"Pip","kind":null,"bags":[{"label":"a","weight":"heavy"}]}""", "bags[0].weight")]
    [InlineData("""{"name":"Pip","kind":"Puffin","bags":[]}""", "kind")]
    [InlineData("""{"name":null,"kind":null,"bags":[]}""", "name")]
    [InlineData("""{"name":"Pip","name":"Pop","kind":null,"bags":[]}""", "name")]
    [InlineData("""{"kind":null,"bags":[]}""", null)]
    [InlineData("""[]""", null)]
    public void A_body_that_does_not_fit_names_the_field(string data, string? field)
    {
        var @event = CourierEvent.Read(Encoding.UTF8.GetBytes(
            $$"""{"specversion":"1.0","id":"1","source":"/t","type":"test.passenger","data":{{data}} }"""));
        var error = Assert.Throws<ContractException>(() => Codec().Decode<Passenger>(@event));
        Assert.Equal(("test.passenger", field), (error.Contract, error.Field));
        Assert.Contains("does not fit the contract", error.Message, StringComparison.Ordinal);
        Assert.DoesNotContain("LineNumber", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Fields_that_the_contract_does_not_know_are_ignored()
    {
        var @event = CourierEvent.Read(
            """{"specversion":"1.0","id":"1","source":"/t","type":"t","data":{"name":"Pip","kind":null,"bags":[],"new":1}}"""u8.ToArray());
        Assert.Equal("Pip", Codec().Decode<Passenger>(@event).Name);
    }

    [Fact]
    public void Extensions_and_base64_data_are_read()
    {
        var @event = CourierEvent.Read(
            """{"specversion":"1.0","id":"1","source":"/t","type":"t","x":{"y":[1]},"datacontenttype":"image/png","data_base64":"AQID"}"""u8.ToArray());
        Assert.False(@event.HasJsonData);
        Assert.Equal([1, 2, 3], @event.Data.ToArray());
    }

    [Theory]
    [InlineData("application/json; charset=utf-8", true)]
    [InlineData("application/vnd.skerry+json", true)]
    [InlineData("text/json-ish", false)]
    public void Json_is_told_by_the_media_type(string contentType, bool expected) =>
        Assert.Equal(
            expected,
            new CourierEvent { Id = "1", Source = "/", Type = "t", DataContentType = contentType }.HasJsonData);

    [Fact]
    public void Bytes_that_are_no_event_never_cause_anything_but_a_clear_error() =>
        Gen.Select(Gen.Byte.Array[0, 300], Gen.Int[0, 200], Gen.Byte).Sample((noise, at, value) =>
        {
            var whole = EventDraft.Of(new Knot(), new() { Subject = "s" }).Encode(Codec()).Json.ToArray();
            whole[at % whole.Length] = value;
            foreach (var bytes in new[] { noise, whole, whole[..(at % whole.Length)] })
            {
                try
                {
                    Codec().Decode<Knot>(CourierEvent.Read(bytes));
                }
                catch (Exception e) when (e is UnreadableEventException or ContractException)
                {
                }
            }
        });
}
