using System.Text;
using GentleCourier.Companions;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using GentleCourier.Housekeeping;
using GentleCourier.Publishing;
using GentleCourier.Receiving.Handling;
using GentleCourier.Scheduling;
using GentleCourier.Telemetry;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection.Extensions;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Options;

namespace GentleCourier;

/// <summary>Adds Gentle Courier to an application.</summary>
public static class CourierServices
{
    private const string Section = "Courier";

    /// <summary>
    /// Adds what this process needs: with a store, <see cref="IOutbox"/> and the relay; with bound queues, their
    /// workers. Settings are checked here; stores and brokers are first touched when the host starts.
    /// </summary>
    /// <param name="services">The application's services.</param>
    /// <param name="configuration">
    /// The application's whole configuration, whose section <c>Courier</c> is read; or such a section, whatever its
    /// name.
    /// </param>
    /// <param name="configure">Registers engines and binds queues.</param>
    /// <exception cref="OptionsValidationException">
    /// A setting is missing, unknown, unreadable or out of range; the message names it.
    /// </exception>
    public static IServiceCollection AddGentleCourier(
        this IServiceCollection services, IConfiguration configuration, Action<CourierBuilder> configure)
    {
        ArgumentNullException.ThrowIfNull(configuration);
        return services.Add(configuration as IConfigurationSection ?? configuration.GetSection(Section), configure);
    }

    /// <summary>The same from code alone: no settings are read.</summary>
    /// <param name="services">The application's services.</param>
    /// <param name="configure">Registers engines, says where store and broker are, and binds queues.</param>
    /// <exception cref="OptionsValidationException">
    /// An option is missing or out of range; the message names it.
    /// </exception>
    public static IServiceCollection AddGentleCourier(
        this IServiceCollection services, Action<CourierBuilder> configure) => services.Add(null, configure);

    private static IServiceCollection Add(
        this IServiceCollection services, IConfigurationSection? settings, Action<CourierBuilder> configure)
    {
        ArgumentNullException.ThrowIfNull(services);
        ArgumentNullException.ThrowIfNull(configure);

        var builder = new CourierBuilder(services);
        configure(builder);
        if (settings is not null) ReadSettings(settings, builder);

        var path = settings?.Path ?? Section;
        if (Problems(path, builder) is { Count: > 0 } found)
            throw new OptionsValidationException(path, typeof(CourierOptions), found);

        services.AddSingleton(Microsoft.Extensions.Options.Options.Create(builder.Options));
        services.AddSingleton(Microsoft.Extensions.Options.Options.Create(builder.Relay));

        services.TryAddSingleton(TimeProvider.System);
        services.AddSingleton(sp => new ContractCodec(
            builder.Options.Json,
            builder.Options.Source,
            builder.Options.MaxEventBytes,
            sp.GetRequiredService<TimeProvider>()));

        if (builder.Options.Store is not null)
        {
            services.AddSingleton(sp => Engine(sp, $"{path}:Store", builder.Options.Store, out var address)
                .CreateStore(address, sp.GetRequiredService<TimeProvider>(), Logger<IStorePort>(sp)));
            services.AddSingleton<IStore>(sp => sp.GetRequiredService<IStorePort>());
            services.AddSingleton<IOutbox>(
                sp => new Outbox(sp.GetRequiredService<IStorePort>(), sp.GetRequiredService<ContractCodec>()));
            services.AddSingleton<ILaterEvents>(sp => new LaterEvents(sp.GetRequiredService<IStorePort>().Later));
            services.AddSingleton<ISchedules>(sp => new ScheduleBook(sp.GetRequiredService<IStorePort>()));
        }
        if (builder.Options.Broker is not null)
        {
            services.AddSingleton(sp => NewBroker(sp, path, builder));
        }

        services.AddSingleton<ICourierStatus>(
            sp => new StatusReader(sp.GetService<IBroker>(), sp.GetService<IStorePort>()));

        foreach (var binding in builder.Bindings)
        {
            binding.Around = builder.Steps;
            services.AddSingleton(binding);
        }
        services.AddSingleton(sp => ActivatorUtilities.CreateInstance<Preparation>(sp, builder));
        services.AddHostedService(sp => sp.GetRequiredService<Preparation>());
        services.AddHostedService<Gauges>();
        // Hosts stop in the opposite order: first of all nothing more is received.
        services.AddHostedService(sp => ActivatorUtilities.CreateInstance<Housekeeper>(sp, builder));
        if (builder.Schedules.Count > 0)
        {
            services.AddHostedService(
                sp => ActivatorUtilities.CreateInstance<Declarer>(sp, (object)builder.Schedules.Values.ToArray()));
        }
        if (builder.Options is { Store: not null, Broker: not null } && builder.Relay.Enabled)
            services.AddHostedService<Relay>();
        if (builder.Bindings.Count > 0)
        {
            services.AddSingleton<ReceiverHost>();
            services.AddHostedService(sp => sp.GetRequiredService<ReceiverHost>());
        }
        services.AddSingleton(sp => new CourierLive(sp));
        services.AddSingleton(sp => new CourierReady(sp));
        return services;
    }

    /// <summary>The broker; with a companion, where it can do less than those need who receive here.</summary>
    private static IBroker NewBroker(IServiceProvider services, string path, CourierBuilder builder)
    {
        var (clock, logger) = (services.GetRequiredService<TimeProvider>(), Logger<IBroker>(services));
        var broker = Engine(services, $"{path}:Broker", builder.Options.Broker!, out var address)
            .CreateBroker(address, clock, logger);
        if (builder is not { Bindings.Count: > 0, Options.Store: { } store } || !BrokerWithCompanion.IsNeededBy(broker))
            return broker;
        var companion = Engine(services, $"{path}:Store", store, out address).CreateCompanion(address, clock, logger);
        return new BrokerWithCompanion(broker, companion, clock, logger);
    }

    private static ILogger? Logger<T>(IServiceProvider services) => services.GetService<ILogger<T>>();

    private static void ReadSettings(IConfigurationSection section, CourierBuilder builder)
    {
        var options = builder.Options;
        var settings = new Settings(section);
        options.Source = settings.Text(nameof(options.Source), options.Source);
        options.Store = settings.Text(nameof(options.Store), options.Store);
        options.Broker = settings.Text(nameof(options.Broker), options.Broker);
        options.CreateMissing = settings.Flag(nameof(options.CreateMissing), options.CreateMissing);
        options.MaxEventBytes = settings.Number(nameof(options.MaxEventBytes), options.MaxEventBytes);
        settings.Ignore("Relay", "Receivers", "Retention", "Routes", "Schedules").RefuseOthers();
        ReadRoutes(section.GetSection("Routes"), options.Routes);

        var relay = builder.Relay;
        settings = new Settings(section.GetSection("Relay"));
        relay.Enabled = settings.Flag(nameof(relay.Enabled), relay.Enabled);
        relay.BatchSize = settings.Number(nameof(relay.BatchSize), relay.BatchSize);
        relay.Lease = settings.Time(nameof(relay.Lease), relay.Lease);
        relay.FirstDelay = settings.Time(nameof(relay.FirstDelay), relay.FirstDelay);
        relay.LongestDelay = settings.Time(nameof(relay.LongestDelay), relay.LongestDelay);
        settings.RefuseOthers();

        var retention = builder.Retention;
        settings = new Settings(section.GetSection("Retention"));
        retention.Inbox = settings.OptionalTime(nameof(retention.Inbox), retention.Inbox);
        retention.Refused = settings.OptionalTime(nameof(retention.Refused), retention.Refused);
        settings.RefuseOthers();

        ReadSchedules(section.GetSection("Schedules"), builder);

        settings = new Settings(section.GetSection("Receivers"));
        settings.Ignore([.. builder.Bindings.Select(b => b.Queue)]).RefuseOthers();
        foreach (var binding in builder.Bindings)
        {
            var limits = binding.Options;
            settings = new Settings(section.GetSection($"Receivers:{binding.Queue}"));
            if (settings.Prefetch(nameof(limits.Prefetch)) is { } prefetch) limits.Prefetch = prefetch;
            limits.Parallel = settings.Number(nameof(limits.Parallel), limits.Parallel);
            limits.BatchSize = settings.Number(nameof(limits.BatchSize), limits.BatchSize);
            limits.BatchWait = settings.Time(nameof(limits.BatchWait), limits.BatchWait);
            limits.TimeLimit = settings.OptionalTime(nameof(limits.TimeLimit), limits.TimeLimit);
            limits.Settling = settings.OneOf(nameof(limits.Settling), limits.Settling);
            limits.MaxAttempts = settings.Number(nameof(limits.MaxAttempts), limits.MaxAttempts);
            limits.RetriesAtOnce = settings.Number(nameof(limits.RetriesAtOnce), limits.RetriesAtOnce);
            limits.MaxAge = settings.OptionalTime(nameof(limits.MaxAge), limits.MaxAge);
            limits.FirstDelay = settings.Time(nameof(limits.FirstDelay), limits.FirstDelay);
            limits.LongestDelay = settings.Time(nameof(limits.LongestDelay), limits.LongestDelay);
            limits.BrakeAfter = settings.Number(nameof(limits.BrakeAfter), limits.BrakeAfter);
            limits.Patience = settings.Time(nameof(limits.Patience), limits.Patience);
            limits.MostPerSecond = settings.OptionalRate(nameof(limits.MostPerSecond), limits.MostPerSecond);
            limits.Lease = settings.Time(nameof(limits.Lease), limits.Lease);
            limits.StopLimit = settings.Time(nameof(limits.StopLimit), limits.StopLimit);
            limits.InKeyOrder = settings.Flag(nameof(limits.InKeyOrder), limits.InKeyOrder);
            limits.Inbox = settings.Flag(nameof(limits.Inbox), limits.Inbox);
            limits.KeepDeadLetters = settings.OptionalTime(nameof(limits.KeepDeadLetters), limits.KeepDeadLetters);
            settings.RefuseOthers();
        }
    }

    private static void ReadRoutes(IConfigurationSection section, RouteOptions routes)
    {
        foreach (var child in section.GetChildren())
        {
            try
            {
                routes.Add(child.Key, (child.Value ?? "").Split(
                    ',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries));
            }
            catch (ArgumentException e)
            {
                throw new OptionsValidationException(
                    child.Path, typeof(RouteOptions), [$"{child.Path}: {Words.FirstLine(e.Message)}"]);
            }
        }
    }

    /// <summary>What code has declared may be set otherwise; one with a type and data is declared by settings alone.
    /// </summary>
    private static void ReadSchedules(IConfigurationSection section, CourierBuilder builder)
    {
        foreach (var child in section.GetChildren())
        {
            var settings = new Settings(child);
            if (!builder.Schedules.ContainsKey(child.Key))
            {
                var (type, data) = (settings.Text("Type", null), settings.Text("Data", null));
                if (type is null || data is null)
                    throw new OptionsValidationException(child.Path, typeof(ScheduleOptions), [
                        $"{child.Path} is no schedule of this process ({Known(builder)}); one that settings alone "
                        + "declare has a Type, and its Data as a text of JSON"]);
                var draft = EventDraft.OfJson(type, Encoding.UTF8.GetBytes(data), new()
                {
                    Subject = settings.Text("Subject", null), PartitionKey = settings.Text("PartitionKey", null),
                });
                builder.Schedule(child.Key, draft, static _ => { });
            }
            var options = builder.Schedules[child.Key].Options;
            options.Cron = settings.OptionalText(nameof(options.Cron), options.Cron);
            options.TimeZone = settings.Text(nameof(options.TimeZone), options.TimeZone)!;
            options.Every = settings.OptionalTime(nameof(options.Every), options.Every);
            options.Missed = settings.OneOf(nameof(options.Missed), options.Missed);
            options.MostMissed = settings.Number(nameof(options.MostMissed), options.MostMissed);
            options.Jitter = settings.Time(nameof(options.Jitter), options.Jitter);
            settings.RefuseOthers();
        }
    }

    private static string Known(CourierBuilder builder) => builder.Schedules.Count == 0 ? "there is none"
        : $"there is {string.Join(", ", builder.Schedules.Keys)}";

    /// <summary>Everything that is wrong with the settings, each with the setting's name.</summary>
    private static List<string> Problems(string path, CourierBuilder builder) =>
    [
        .. builder.Options.Problems().Select(p => $"{path}:{p}"),
        .. builder.Relay.Problems().Select(p => $"{path}:Relay:{p}"),
        .. builder.Bindings.SelectMany(b => b.Options.Problems().Select(p => $"{path}:Receivers:{b.Queue}:{p}")),
        .. builder.Schedules.Values.SelectMany(
            s => s.Options.Rule.Problems().Select(p => $"{path}:Schedules:{s.Name}:{p}")),
        .. builder.Retention.Problems(builder.Bindings).Select(p => $"{path}:Retention:{p}"),
        .. Missing(path, builder),
    ];

    private static IEnumerable<string> Missing(string path, CourierBuilder builder)
    {
        if (builder.Options.Store is null && builder.Options.Broker is null)
            yield return $"{path}:Store and {path}:Broker are both not set, so there is nothing to do; set the one "
                + "that this process needs, or both";
        if (builder.Options.Broker is null && builder.Bindings.Count > 0)
            yield return $"{path}:Broker is not set: where are the queues that this process receives from?";
        if (builder.Options.Store is null && builder.MakersOfTables.Count > 0)
            yield return $"{path}:Store is not set: in which database is the outbox of the context that this process "
                + "uses?";
        if (builder.Options.Store is null && builder.StorePreparations.Count > 0)
            yield return $"{path}:Store is not set: where are the tables that this process prepares?";
        if (builder.Options.Store is null && builder.Schedules.Count > 0)
            yield return $"{path}:Store is not set: where are the schedules kept that this process declares?";
        if (builder.Options.Store is not null && builder.Options.Source is null)
            yield return $"{path}:Source is not set: in whose name does this service publish?";
        if (builder.Options.Store is null)
            foreach (var binding in builder.Bindings.Where(b => b.Options.Inbox))
                yield return $"{path}:Store is not set, but queue '{binding.Queue}' is received with an inbox; set it, "
                    + $"or set {path}:Receivers:{binding.Queue}:Inbox to false";
    }

    private static IEngine Engine(IServiceProvider services, string setting, string text, out EngineAddress address)
    {
        var engines = services.GetServices<IEngine>().ToList();
        var known = engines.Count == 0 ? "none is registered"
            : $"known are {string.Join(", ", engines.Select(e => e.Scheme + ":"))}";
        if (!EngineAddress.TryParse(text, out var parsed))
            throw new CourierException($"{setting} is not an address 'engine:location'; of engines, {known}");
        address = parsed;
        return engines.Find(e => e.Scheme == parsed.Scheme)
            ?? throw new CourierException(
                $"{setting} names the engine '{parsed.Scheme}:', of which nothing is known; {known}");
    }
}
