using CsCheck;
using GentleCourier.Engines;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Tests;

public sealed class InboxKeyTests
{
    private static InboxKey Of(string id, string source = "/t", string queue = "taps") =>
        InboxKey.Of(InboxKey.OriginOf(queue, source), id);

    [Fact]
    public void Uuids_are_kept_as_they_are_so_those_of_time_stay_in_its_order() =>
        Gen.Long[0, 1L << 40].Array[2].Sample(at =>
        {
            var ids = at.Select(ms => Guid.CreateVersion7(DateTimeOffset.FromUnixTimeMilliseconds(ms))).ToArray();
            var keys = ids.Select(id => Of(id.ToString())).ToArray();
            return keys.Zip(ids, (key, id) => key.Id == id && key.Name is null).All(same => same)
                && (at[0] == at[1] || at[0] < at[1] == (Comparer<Guid>.Default.Compare(keys[0].Id, keys[1].Id) < 0));
        });

    [Theory]
    [InlineData("0198C0F4-1111-7222-8333-444455556666")]
    [InlineData("0198c0f4-1111-7222-8333-44445555666A")]
    [InlineData("{0198c0f4-1111-7222-8333-444455556666}")]
    [InlineData("0198c0f41111722283334444555566660")]
    [InlineData("+198c0f4-1111-7222-8333-444455556666")]
    [InlineData("0x98c0f4-1111-7222-8333-444455556666")]
    [InlineData(" 0198c0f4-1111-7222-8333-44445555666")]
    [InlineData("0198c0f4-1111-7222-8333-444455556666\n")]
    [InlineData("00000000-0000-0000-0000-000000000000")]
    [InlineData("ffffffff-ffff-ffff-ffff-ffffffffffff")]
    [InlineData("0198c0f4-1111-7222-e333-444455556666")]
    [InlineData("")]
    public void Whatever_else_an_id_is_it_is_its_own_text(string id)
    {
        var key = Of(id);
        Assert.Equal(id, key.Name);
        // The digit that says the variant; of a UUID it is 8 to b.
        Assert.Contains(key.Id.ToString()[19], "ef");
    }

    [Fact]
    public void No_two_ids_have_one_key() =>
        Gen.Select(Gen.String, Gen.String).Sample((one, other) => one == other || Of(one).Id != Of(other).Id);

    [Fact]
    public void No_name_is_taken_for_a_uuid_even_where_it_is_written_as_its_own_key() =>
        Gen.String.Sample(name => Of(Of(name).Id.ToString()).Id != Of(name).Id);

    [Fact]
    public void Where_a_queue_ends_and_its_source_begins_is_told() =>
        Gen.Select(Gen.String, Gen.String, Gen.String).Sample((a, b, c) =>
            b.Length == 0 || InboxKey.OriginOf(a + b, c) != InboxKey.OriginOf(a, b + c));

    [Fact]
    public void A_name_is_written_once_an_hour()
    {
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var origins = new InboxOrigins(clock);
        InboxEvent[] events = [new("/a", "1"), new("/b", "1"), new("/b", "2"), new("/a", "2")];
        var unnamed = origins.Unnamed("taps", events, e => e.Source);
        Assert.Equal(["/a", "/b"], unnamed.Select(o => o.Source).Order());
        Assert.Equal(2, origins.Unnamed("taps", events, e => e.Source).Count);
        origins.AreNamed(unnamed);
        Assert.Empty(origins.Unnamed("taps", events, e => e.Source));
        Assert.Equal(2, origins.Unnamed("fares", events, e => e.Source).Count);
        clock.Advance(InboxOrigins.Every);
        Assert.Equal(2, origins.Unnamed("taps", events, e => e.Source).Count);
    }

    [Fact]
    public void A_hundred_thousand_sources_are_each_their_own_however_few_are_remembered()
    {
        var origins = new InboxOrigins(new FakeTimeProvider());
        for (var round = 0; round < 2; round++)
        {
            var keys = Enumerable.Range(0, 100_000).Select(i => origins.KeyOf("taps", $"/gates/{i}", "1").Origin);
            Assert.Equal(100_000, keys.Distinct().Count());
        }
    }
}
