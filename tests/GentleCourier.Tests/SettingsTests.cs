using GentleCourier.Engines;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Options;

namespace GentleCourier.Tests;

public sealed class SettingsTests
{
    [WireType("test.tap")]
    public sealed record Tap(int Number);

    [WireType("test.tap")]
    public sealed record SecondTap(int Number);

    public sealed class Receiver : IReceiver<Tap>, IReceiver<SecondTap>
    {
        public Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken) => Task.CompletedTask;

        public Task HandleAsync(Delivery<SecondTap> delivery, CancellationToken cancellationToken) =>
            Task.CompletedTask;
    }

    private static IHost Build(Dictionary<string, string?> settings, Action<CourierBuilder>? configure = null)
    {
        var builder = Host.CreateEmptyApplicationBuilder(null);
        builder.Configuration.AddInMemoryCollection(settings);
        builder.Services.AddGentleCourier(builder.Configuration.GetSection("Courier"), configure ?? (_ => { }));
        return builder.Build();
    }

    [Theory]
    [InlineData(
        "Courier:Brokr", "x",
        "Courier:Brokr is not a setting of this process; Courier knows Broker, CreateMissing, MaxEventBytes, "
        + "Receivers, Relay, Retention, Routes, Schedules, Source, Store")]
    [InlineData("Courier:MaxEventBytes", "many", "Courier:MaxEventBytes must be a whole number, but is 'many'")]
    [InlineData("Courier:CreateMissing", "yes", "Courier:CreateMissing must be true or false, but is 'yes'")]
    [InlineData("Courier:Relay:Lease", "5", "Courier:Relay:Lease must be a time as hh:mm:ss, but is '5'")]
    [InlineData("Courier:Relay:Batch", "5", "Courier:Relay:Batch is not a setting")]
    [InlineData("Courier:Receivers:tap:Prefetch", "5",
        "Courier:Receivers:tap is not a setting of this process; Courier:Receivers knows taps")]
    [InlineData("Courier:Receivers:taps:Prefetch", "lots",
        "Courier:Receivers:taps:Prefetch must be a whole number, self-tuned or unlimited, but is 'lots'")]
    [InlineData("Courier:Receivers:taps:Prefetch", "0",
        "Courier:Receivers:taps:Prefetch must be 1 to 100,000, self-tuned or unlimited, but is 0")]
    [InlineData("Courier:Receivers:taps:BatchWait", "00:02:00",
        "Courier:Receivers:taps:BatchWait must be 0 to 1 minute, but is 00:02:00")]
    [InlineData("Courier:Receivers:taps:Settling", "1",
        "Courier:Receivers:taps:Settling must be AfterHandling or OnArrival, but is '1'")]
    [InlineData("Courier:Receivers:taps:TimeLimit", "00:00:00",
        "Courier:Receivers:taps:TimeLimit must be 1 millisecond to 1 day, but is 00:00:00")]
    [InlineData("Courier:Receivers:taps:TimeLimit", "soon",
        "Courier:Receivers:taps:TimeLimit must be a time as hh:mm:ss, but is 'soon'")]
    [InlineData(
        "Courier:Receivers:taps:MaxAge", "00:00:00.5", "Courier:Receivers:taps:MaxAge must be 1 second to 365 days")]
    [InlineData("Courier:Receivers:taps:RetriesAtOnce", "-1",
        "Courier:Receivers:taps:RetriesAtOnce must be 0 to 1,000, but is -1")]
    [InlineData("Courier:Receivers:taps:KeepDeadLetters", "00:30:00",
        "Courier:Receivers:taps:KeepDeadLetters must be at least 01:00:00, or none, but is 00:30:00")]
    [InlineData("Courier:Retention:Inbox", "00:10:00",
        "Courier:Retention:Inbox must be at least 01:00:00, or none, but is 00:10:00")]
    [InlineData("Courier:Retention:Inbox", "1.00:00:00",
        "Courier:Retention:Inbox must be at least 1.04:22:05 for queue 'taps', its Patience and the waits of its "
        + "retries together, but is 1.00:00:00")]
    [InlineData("Courier:Retention:Refused", "-1.00:00:00", "Courier:Retention:Refused must be at least 01:00:00")]
    [InlineData("Courier:Retention:Inbx", "none", "Courier:Retention knows Inbox, Refused")]
    [InlineData("Courier:Receivers:taps:Prefech", "5", "Courier:Receivers:taps:Prefech is not a setting")]
    public void A_setting_that_is_unknown_or_unreadable_is_named(string name, string value, string error)
    {
        var thrown = Assert.Throws<OptionsValidationException>(
            () => Build(
                new() { ["Courier:Broker"] = "nowhere:x", ["Courier:Store"] = "nowhere:x", ["Courier:Source"] = "/t",
                [name] = value }, c => c.Receive("taps", q => q.Handle<Tap, Receiver>())));
        Assert.Contains(error, thrown.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Settings_go_before_code()
    {
        ReceiverOptions? options = null;
        Build(new()
        {
            ["Courier:Broker"] = "nowhere:x",
            ["Courier:Store"] = "nowhere:x",
            ["Courier:Source"] = "/t",
            ["Courier:Receivers:taps:Prefetch"] = "7",
            ["Courier:Receivers:taps:TimeLimit"] = "none",
            ["Courier:Receivers:taps:MaxAge"] = "1.00:00:00",
            ["Courier:Receivers:taps:Settling"] = "OnArrival",
        }, c => c.Receive("taps", q =>
        {
            options = q.Options;
            (options.Prefetch, options.Parallel, options.TimeLimit) = (3, 2, TimeSpan.FromSeconds(5));
            q.Handle<Tap, Receiver>();
        })).Dispose();
        Assert.Equal((7, 2, null), (options!.Prefetch, options.Parallel, options.TimeLimit));
        Assert.Equal((TimeSpan.FromDays(1), Settling.OnArrival), (options.MaxAge, options.Settling));
    }

    [Fact]
    public void Prefetch_that_is_not_set_is_lifted_with_what_it_has_to_feed()
    {
        Assert.Equal(20, new ReceiverOptions { Parallel = 4 }.Prefetch);
        Assert.Equal(400, new ReceiverOptions { Parallel = 4, BatchSize = 50 }.Prefetch);
        Assert.Empty(new ReceiverOptions { Parallel = 1_000, BatchSize = 100 }.Problems());
        var thrown = Assert.Throws<OptionsValidationException>(
            () => Build(
                new() { ["Courier:Broker"] = "nowhere:x", ["Courier:Receivers:taps:Prefetch"] = "5",
                    ["Courier:Receivers:taps:Parallel"] = "6" },
                c => c.Receive("taps", q => q.Handle<Tap, Receiver>())));
        Assert.Contains("Courier:Receivers:taps:Prefetch must be at least Parallel times BatchSize (6 x 1), but is 5",
            thrown.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void The_whole_configuration_is_read_in_its_section_and_a_section_of_another_name_by_that()
    {
        var configuration = new ConfigurationManager();
        configuration["Courier:Store"] = "nowhere:x";
        configuration["Other:Source"] = "not a source";
        Assert.Contains("Courier:Source is not set", Assert.Throws<OptionsValidationException>(
            () => Host.CreateEmptyApplicationBuilder(null).Services.AddGentleCourier(configuration, _ => { })).Message,
            StringComparison.Ordinal);
        Assert.Contains("Other:Source must be", Assert.Throws<OptionsValidationException>(
            () => Host.CreateEmptyApplicationBuilder(null).Services
                .AddGentleCourier(configuration.GetSection("Other"), _ => { })).Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Code_alone_says_all_and_what_it_leaves_out_is_named()
    {
        Assert.Contains("Courier:Source is not set", Assert.Throws<OptionsValidationException>(
            () => Host.CreateEmptyApplicationBuilder(null).Services
                .AddGentleCourier(c => c.Options.Store = "nowhere:x")).Message, StringComparison.Ordinal);
        var builder = Host.CreateEmptyApplicationBuilder(null);
        builder.Services.AddGentleCourier(
            c => (c.Options.Store, c.Options.Source, c.Relay.BatchSize) = ("nowhere:x", "/t", 9));
        using var host = builder.Build();
        var thrown = await Assert.ThrowsAsync<CourierException>(() => host.StartAsync());
        Assert.Contains("names the engine 'nowhere:'", thrown.Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("Courier:Store and Courier:Broker are both not set")]
    [InlineData("Courier:Source is not set", "Courier:Store", "nowhere:x")]
    [InlineData(
        "Courier:Source must be a URI reference", "Courier:Source", "not a source", "Courier:Broker", "nowhere:x")]
    [InlineData("Courier:MaxEventBytes must be 1,024 to", "Courier:MaxEventBytes", "12", "Courier:Broker", "nowhere:x")]
    public void What_is_missing_or_out_of_range_is_named(string error, params string[] settings)
    {
        var thrown = Assert.Throws<OptionsValidationException>(() => Build(
            settings.Chunk(2).ToDictionary(s => s[0], s => (string?)s[1])));
        Assert.Contains(error, thrown.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void A_worker_without_a_broker_or_without_a_store_for_its_inbox_is_told()
    {
        var thrown = Assert.Throws<OptionsValidationException>(() => Build(
            [], c => c.Receive("taps", q => q.Handle<Tap, Receiver>())));
        Assert.Contains("Courier:Broker is not set: where are the queues", thrown.Message, StringComparison.Ordinal);
        Assert.Contains("queue 'taps' is received with an inbox; set it, or set Courier:Receivers:taps:Inbox to false",
            thrown.Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("broker.db", "is not an address 'engine:location'")]
    [InlineData("pigeon:coop", "names the engine 'pigeon:', of which nothing is known; none is registered")]
    public async Task An_address_of_no_engine_is_told_without_its_location(string address, string error)
    {
        using var host = Build(new() { ["Courier:Store"] = address, ["Courier:Source"] = "/t" });
        var thrown = await Assert.ThrowsAsync<CourierException>(() => host.StartAsync());
        Assert.Contains(error, thrown.Message, StringComparison.Ordinal);
        Assert.DoesNotContain("coop", thrown.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Bindings_that_make_no_sense_are_refused()
    {
        Assert.Throws<ArgumentException>(() => Build([], c => c.Receive("Bad Name", q => q.Handle<Tap, Receiver>())));
        Assert.Throws<ArgumentException>(() => Build([], c => c.Receive("taps", _ => { })));
        Assert.Throws<ArgumentException>(() => Build([],
            c => c.Receive("taps", q => q.Handle<Tap, Receiver>()).Receive("taps", q => q.Handle<Tap, Receiver>())));
        Assert.Throws<InvalidOperationException>(() => Build(
            [], c => c.Receive("taps", q => q.Handle<Tap, Receiver>().Handle<SecondTap, Receiver>())));
    }

    [Theory]
    [InlineData("sqlite:/a/b:c.db", "sqlite", "/a/b:c.db")]
    [InlineData("sqlite:", null, null)]
    [InlineData(":x", null, null)]
    [InlineData("C:\\x", null, null)]
    [InlineData(null, null, null)]
    public void Addresses_are_split_at_the_first_colon(string? text, string? scheme, string? location)
    {
        Assert.Equal(scheme is not null, EngineAddress.TryParse(text, out var address));
        Assert.Equal((scheme, location), (address?.Scheme, address?.Location));
        if (address is not null) Assert.DoesNotContain(location!, address.ToString(), StringComparison.Ordinal);
    }
}
