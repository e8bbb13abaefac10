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

    [Fact]
    public void What_is_written_can_be_read_whatever_the_texts_are() =>
        Gen.Select(Gen.String, Gen.String, Gen.String[1, 200], Gen.Double).Where((_, _, _, d) => double.IsFinite(d))
            .Sample((name, subject, id, weight) =>
        {
            // Lone surrogates have no UTF-8; JSON replaces them.
            if (Encoding.UTF8.GetString(Encoding.UTF8.GetBytes(name + subject + id)) != name + subject + id)
                return true;
            var passenger = new Passenger(name, Gender.Tern, [new Bag(subject, weight)]);
            var encoded = EventDraft.Of(passenger, subject, partitionKey: name, id: id).Encode(Codec());
            var read = Event.Read(encoded.Json);
            var back = Codec().Decode<Passenger>(read);
            return (read.Id, read.Source, read.Type, read.Subject, read.PartitionKey) == (
                id, "/test/harbour", "test.passenger", subject, name)
                && back.Name == name && back.Kind == Gender.Tern && back.Bags.Single() == passenger.Bags[0];
        });

    [Fact]
    public void Bodies_are_small_and_simple()
    {
        var encoded = EventDraft.Of(
            new Passenger("Pip", Gender.Gull, []), time: DateTimeOffset.Parse("2031-06-14T06:00:00Z")).Encode(Codec());
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
        var read = Event.Read(EventDraft.Of(new Knot()).Encode(Codec()).Json);
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
        var @event = Event.Read(Encoding.UTF8.GetBytes(
            $$"""{"specversion":"1.0","id":"1","source":"/t","type":"test.passenger","data":{{data}} }"""));
        var error = Assert.Throws<ContractException>(() => Codec().Decode<Passenger>(@event));
        Assert.Equal(("test.passenger", field), (error.Contract, error.Field));
        Assert.Contains("does not fit the contract", error.Message, StringComparison.Ordinal);
        Assert.DoesNotContain("LineNumber", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Fields_that_the_contract_does_not_know_are_ignored()
    {
        var @event = Event.Read(
            """{"specversion":"1.0","id":"1","source":"/t","type":"t","data":{"name":"Pip","kind":null,"bags":[],"new":1}}"""u8.ToArray());
        Assert.Equal("Pip", Codec().Decode<Passenger>(@event).Name);
    }

    [Fact]
    public void Extensions_and_base64_data_are_read()
    {
        var @event = Event.Read(
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
            expected, new Event { Id = "1", Source = "/", Type = "t", DataContentType = contentType }.HasJsonData);

    [Fact]
    public void Bytes_that_are_no_event_never_cause_anything_but_a_clear_error() =>
        Gen.Select(Gen.Byte.Array[0, 300], Gen.Int[0, 200], Gen.Byte).Sample((noise, at, value) =>
        {
            var whole = EventDraft.Of(new Knot(), subject: "s").Encode(Codec()).Json.ToArray();
            whole[at % whole.Length] = value;
            foreach (var bytes in new[] { noise, whole, whole[..(at % whole.Length)] })
            {
                try
                {
                    Codec().Decode<Knot>(Event.Read(bytes));
                }
                catch (Exception e) when (e is UnreadableEventException or ContractException)
                {
                }
            }
        });
}
