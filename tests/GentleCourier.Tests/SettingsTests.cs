using GentleCourier.Engines;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
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

    /// <summary>What the host says, whose start reads the settings.</summary>
    private static async Task<string> RefusedAsync(
        Dictionary<string, string?> settings, Action<CourierBuilder>? configure = null)
    {
        using var host = Build(settings, configure);
        return (await Assert.ThrowsAsync<OptionsValidationException>(() => host.StartAsync())).Message;
    }

    /// <summary>The options, once settings are read.</summary>
    private static CourierOptions OptionsOf(IHost host) =>
        host.Services.GetRequiredService<IOptions<CourierOptions>>().Value;

    [Theory]
    [InlineData(
        "Courier:Brokr", "x",
        "Courier:Brokr is not a setting of this process (did you mean Broker?); Courier knows Broker, CreateMissing, "
        + "MaxEventBytes, Receivers, Relay, Retention, Routes, Schedules, Source, Store")]
    [InlineData("Courier:MaxEventBytes", "many", "Courier:MaxEventBytes must be a whole number, but is 'many'")]
    [InlineData("Courier:CreateMissing", "yes", "Courier:CreateMissing must be true or false, but is 'yes'")]
    [InlineData("Courier:Relay:Lease", "5", "Courier:Relay:Lease must be a time as hh:mm:ss, but is '5'")]
    [InlineData("Courier:Relay:Batch", "5", "Courier:Relay:Batch is not a setting")]
    [InlineData("Courier:Receivers:tap:Prefech", "5",
        "Prefech is not a setting of this process (did you mean Prefetch?); Courier:Receivers:tap knows BatchSize,")]
    [InlineData("Courier:Receivers:tap:Prefetch", "lots",
        "Courier:Receivers:tap:Prefetch must be a whole number, self-tuned or unlimited, but is 'lots'")]
    [InlineData("Courier:Relay", "off",
        "Courier:Relay is a section (Courier:Relay:…, with Enabled, BatchSize, Lease, FirstDelay, MaxDelay), but "
        + "has the value 'off'")]
    [InlineData("Courier:Retention", "x", "Courier:Retention is a section (Courier:Retention:…, with Inbox, Ref")]
    [InlineData("Courier:Receivers", "x", "Courier:Receivers is a section (Courier:Receivers:…, with names of q")]
    [InlineData("Courier:Receivers:taps", "5", "Courier:Receivers:taps is a section (Courier:Receivers:taps:…, with")]
    [InlineData("Courier:Schedules", "x", "Courier:Schedules is a section (Courier:Schedules:…, with names of sched")]
    [InlineData("Courier:Schedules:tide", "daily", "Courier:Schedules:tide is a section (Courier:Schedules:tide:…,")]
    [InlineData("Courier:Routes", "x", "Courier:Routes is a section (Courier:Routes:…, with names of types)")]
    [InlineData("Courier:Routes:a b", "q", "Courier:Routes:a b: 'a b' is not a wire type: 1 to 255 letters, digits")]
    [InlineData("Courier:Routes:a", "", "Courier:Routes:a: type 'a' is routed to no queue")]
    [InlineData("Courier:Routes:a:0", "q",
        "Courier:Routes:a takes the names of queues as one text, separated by commas, such as 'fares, deck-count', but "
        + "there is Courier:Routes:a:0")]
    [InlineData("Courier:Source:Name", "/t", "Courier:Source takes a value, but there is Courier:Source:Name")]
    [InlineData("Courier:Schedules:late:TimeZone", "Europe/Lisboa",
        "Courier:Schedules:late:TimeZone 'Europe/Lisboa' is for Cron; Every counts from 1970 in UTC: leave")]
    [InlineData("Courier:Schedules:late:MaxMissed", "0",
        "Courier:Schedules:late:MaxMissed must be 1 to 1,000, but is 0")]
    [InlineData("Courier:Schedules:late:Missed", "7", "Courier:Schedules:late:Missed must be Skip or Once or Each")]
    [InlineData("Courier:Schedules:late:Type", "x", "Courier:Schedules:late is declared in code, which says what its")]
    [InlineData("Courier:Schedules:tide:Type", "x", "Courier:Schedules:tide is declared by settings alone, which")]
    [InlineData("Courier:Schedules:tide:Evry", "x", "Courier:Schedules:tide:Evry is not a setting of this process")]
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
    public async Task A_setting_that_is_unknown_or_unreadable_is_named(string name, string value, string error) =>
        Assert.Contains(error, await RefusedAsync(
            new() { ["Courier:Broker"] = "nowhere:x", ["Courier:Store"] = "nowhere:x", ["Courier:Source"] = "/t",
                [name] = value },
            c => c.Receive("taps", q => q.Handle<Tap, Receiver>())
                .Schedule("late", new Tap(1), s => s.Every = TimeSpan.FromHours(6))), StringComparison.Ordinal);

    [Fact]
    public void Settings_go_before_code()
    {
        ReceiverOptions? options = null;
        using var host = Build(new()
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
        }));
        OptionsOf(host);
        Assert.Equal((7, 2, null), (options!.Prefetch, options.Parallel, options.TimeLimit));
        Assert.Equal((TimeSpan.FromDays(1), Settling.OnArrival), (options.MaxAge, options.Settling));
    }

    [Fact]
    public async Task Prefetch_that_is_not_set_is_lifted_with_what_it_has_to_feed()
    {
        Assert.Equal(20, new ReceiverOptions { Parallel = 4 }.Prefetch);
        Assert.Equal(400, new ReceiverOptions { Parallel = 4, BatchSize = 50 }.Prefetch);
        Assert.Empty(new ReceiverOptions { Parallel = 1_000, BatchSize = 100 }.Problems());
        Assert.Contains("Courier:Receivers:taps:Prefetch must be at least Parallel times BatchSize (6 x 1), but is 5",
            await RefusedAsync(
                new() { ["Courier:Broker"] = "nowhere:x", ["Courier:Receivers:taps:Prefetch"] = "5",
                    ["Courier:Receivers:taps:Parallel"] = "6" },
                c => c.Receive("taps", q => q.Handle<Tap, Receiver>())), StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_whole_configuration_is_read_in_its_section_and_a_section_of_another_name_by_that()
    {
        var settings = new Dictionary<string, string?>
        {
            ["Courier:Store"] = "nowhere:x", ["Other:Source"] = "not a source",
        };
        Assert.Contains("Courier:Source is not set", await StartAsync(c => c), StringComparison.Ordinal);
        Assert.Contains(
            "Other:Source must be", await StartAsync(c => c.GetSection("Other")), StringComparison.Ordinal);

        async Task<string> StartAsync(Func<IConfiguration, IConfiguration> part)
        {
            var builder = Host.CreateEmptyApplicationBuilder(null);
            builder.Configuration.AddInMemoryCollection(settings);
            builder.Services.AddGentleCourier(part(builder.Configuration), _ => { });
            using var host = builder.Build();
            return (await Assert.ThrowsAsync<OptionsValidationException>(() => host.StartAsync())).Message;
        }
    }

    [Fact]
    public async Task What_is_added_to_the_configuration_later_is_read_too()
    {
        var builder = Host.CreateEmptyApplicationBuilder(null);
        builder.Services.AddGentleCourier(builder.Configuration, c => c.Options.MaxEventBytes = 2_000);
        builder.Configuration.AddInMemoryCollection(
            new Dictionary<string, string?> { ["Courier:Broker"] = "nowhere:x", ["Courier:MaxEventBytes"] = "3000" });
        using var host = builder.Build();
        Assert.Equal(("nowhere:x", 3_000), (OptionsOf(host).Broker, OptionsOf(host).MaxEventBytes));
        await Assert.ThrowsAsync<CourierException>(() => host.StartAsync());
    }

    [Fact]
    public void Modules_of_a_program_that_contradict_each_other_are_refused_by_name()
    {
        Says("Relay:BatchSize is said twice, and otherwise, in code", c => c.Relay.BatchSize = 7,
            c => c.Relay.BatchSize = 8);
        Says("Store is said twice", c => c.Options.Store = "nowhere:x", c => c.Options.Store = "nowhere:y");
        Says("Routes:a is said twice", c => c.Options.Routes.Add("a", "q"), c => c.Options.Routes.Add("a", "r"));
        Says("Json is said twice", c => c.Options.Json = new(), c => c.Options.Json = new());
        Assert.Contains("queue 'taps' is bound twice in this process", Assert.Throws<ArgumentException>(() => Add(
            c => c.Receive("taps", q => q.Handle<Tap, Receiver>()),
            c => c.Receive("taps", q => q.Handle<SecondTap, Receiver>()))).Message, StringComparison.Ordinal);

        static void Says(string error, params Action<CourierBuilder>[] modules) => Assert.Contains(
            error, Assert.Throws<OptionsValidationException>(() => Add(modules)).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Modules_that_are_handed_other_settings_are_refused_and_the_values_are_not_shown()
    {
        var services = Host.CreateEmptyApplicationBuilder(null).Services;
        services.AddGentleCourier(Settings("Courier:Store", "nowhere:secret"), _ => { });
        services.AddGentleCourier(Settings("Courier:Store", "nowhere:secret"), _ => { });
        Refuses("Courier:Store is said twice", Settings("Courier:Store", "nowhere:other"));
        Refuses("told to read the section Courier, and elsewhere the section Other",
            Settings("Other:Store", "nowhere:x").GetSection("Other"));

        void Refuses(string error, IConfiguration settings)
        {
            var thrown = Assert.Throws<OptionsValidationException>(
                () => services.AddGentleCourier(settings, _ => { }));
            Assert.Contains(error, thrown.Message, StringComparison.Ordinal);
            Assert.DoesNotContain("nowhere", thrown.Message, StringComparison.Ordinal);
        }

        static IConfiguration Settings(string name, string value) => new ConfigurationBuilder()
            .AddInMemoryCollection(new Dictionary<string, string?> { [name] = value }).Build();
    }

    [Fact]
    public void Modules_add_to_one_courier()
    {
        var services = Add(
            c => c.Options.Store = "nowhere:x",
            c => c.Options.Source = "/t",
            c =>
            {
                // The same once more is no contradiction.
                c.Options.Source = "/t";
                c.Relay.BatchSize = 9;
            });
        using var provider = services.BuildServiceProvider();
        var options = provider.GetRequiredService<IOptions<CourierOptions>>().Value;
        Assert.Equal(("nowhere:x", "/t"), (options.Store, options.Source));
        Assert.Equal(9, provider.GetRequiredService<IOptions<RelayOptions>>().Value.BatchSize);
    }

    private static IServiceCollection Add(params Action<CourierBuilder>[] modules)
    {
        var services = Host.CreateEmptyApplicationBuilder(null).Services;
        foreach (var module in modules) services.AddGentleCourier(module);
        return services;
    }

    [Fact]
    public async Task Code_alone_says_all_and_what_it_leaves_out_is_named()
    {
        var builder = Host.CreateEmptyApplicationBuilder(null);
        builder.Services.AddGentleCourier(c => c.Options.Store = "nowhere:x");
        using (var without = builder.Build())
        {
            Assert.Contains("Courier:Source is not set", (await Assert.ThrowsAsync<OptionsValidationException>(
                () => without.StartAsync())).Message, StringComparison.Ordinal);
        }
        builder = Host.CreateEmptyApplicationBuilder(null);
        builder.Services.AddGentleCourier(
            c => (c.Options.Store, c.Options.Source, c.Relay.BatchSize) = ("nowhere:x", "/t", 9));
        using var host = builder.Build();
        var thrown = await Assert.ThrowsAsync<CourierException>(() => host.StartAsync());
        Assert.Contains("names the engine 'nowhere:'", thrown.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Who_asks_for_what_the_settings_leave_out_is_told_which_one()
    {
        using var host = Build(new() { ["Courier:Broker"] = "nowhere:x" });
        Assert.Contains("Courier:Store is not set, and this process needs it: set it to an address such as sqlite:",
            Assert.Throws<OptionsValidationException>(() => host.Services.GetService<IOutbox>()).Message,
            StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("Courier:Store and Courier:Broker are both not set")]
    [InlineData("Courier:Source is not set", "Courier:Store", "nowhere:x")]
    [InlineData(
        "Courier:Source must be a URI reference", "Courier:Source", "not a source", "Courier:Broker", "nowhere:x")]
    [InlineData("Courier:MaxEventBytes must be 1,024 to", "Courier:MaxEventBytes", "12", "Courier:Broker", "nowhere:x")]
    public async Task What_is_missing_or_out_of_range_is_named(string error, params string[] settings) =>
        Assert.Contains(
            error, await RefusedAsync(settings.Chunk(2).ToDictionary(s => s[0], s => (string?)s[1])),
            StringComparison.Ordinal);

    [Fact]
    public async Task A_worker_without_a_broker_or_without_a_store_for_its_inbox_is_told()
    {
        var message = await RefusedAsync([], c => c.Receive("taps", q => q.Handle<Tap, Receiver>()));
        Assert.Contains("Courier:Broker is not set: where are the queues", message, StringComparison.Ordinal);
        Assert.Contains("queue 'taps' is received with an inbox; set it, or set Courier:Receivers:taps:Inbox to false",
            message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("coop.db", "is not an address: it names no engine; for a file say sqlite:FILE (an address is")]
    [InlineData("pigeon:coop", "names the engine 'pigeon:', which is not known to this program: there are sqlite:, ")]
    [InlineData("sqlite:coop", "'sqlite:', which is not known to this program: add the package GentleCourier.Sqlite, ")]
    [InlineData("postgres://coop/x", "add the package GentleCourier.Postgres, and say courier.UsePostgres()")]
    [InlineData("postgresql://coop/x", "add the package GentleCourier.Postgres, and say courier.UsePostgres()")]
    [InlineData("amqps://coop", "add the package GentleCourier.Amqp, and say courier.UseAmqp()")]
    [InlineData("Host=coop;Database=x;Password=coop", "it is a driver's connection string; an address is ENGINE:LOC")]
    [InlineData("Data Source=coop.db", "an address is sqlite:FILE, with what stands there behind 'Data Source='")]
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
