using GentleCourier.ByHand;
using GentleCourier.Companions;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using GentleCourier.Publishing;
using GentleCourier.Receiving.Handling;
using GentleCourier.Scheduling;
using GentleCourier.Watching;
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
    /// workers. Called several times in one program, each adds to the same. Settings are read and checked when they are
    /// first needed, at the host's start at the latest; stores and brokers are first touched then.
    /// </summary>
    /// <param name="services">The application's services.</param>
    /// <param name="configuration">
    /// The application's whole configuration, whose section <c>Courier</c> is read; or such a section, whatever its
    /// name.
    /// </param>
    /// <param name="configure">Registers engines and binds queues.</param>
    /// <exception cref="OptionsValidationException">
    /// Another call has said otherwise. When the host starts: a setting is missing, unknown, unreadable or out of
    /// range. The message names it.
    /// </exception>
    public static IServiceCollection AddGentleCourier(
        this IServiceCollection services, IConfiguration configuration, Action<CourierBuilder> configure)
    {
        ArgumentNullException.ThrowIfNull(configuration);
        return services.Add(configuration as IConfigurationSection ?? configuration.GetSection(Section), configure);
    }

    /// <summary>
    /// Adds what this process needs, as code alone says it: no settings are read. Called several times in one program,
    /// each adds to the same; what is said is checked at the host's start at the latest.
    /// </summary>
    /// <param name="services">The application's services.</param>
    /// <param name="configure">Registers engines, says where store and broker are, and binds queues.</param>
    /// <exception cref="OptionsValidationException">
    /// Another call has said otherwise. When the host starts: an option is missing or out of range. The message names
    /// it.
    /// </exception>
    public static IServiceCollection AddGentleCourier(
        this IServiceCollection services, Action<CourierBuilder> configure) => services.Add(null, configure);

    private static IServiceCollection Add(
        this IServiceCollection services, IConfigurationSection? settings, Action<CourierBuilder> configure)
    {
        ArgumentNullException.ThrowIfNull(services);
        ArgumentNullException.ThrowIfNull(configure);
        var registration = Registration.Of(services, out var isFirst);
        registration.Add(settings, configure);
        if (!isFirst) return services;

        services.TryAddSingleton(TimeProvider.System);
        services.TryAddSingleton(
            sp => new CourierClock(sp.GetRequiredService<TimeProvider>(), sp.GetRequiredService<TimeProvider>()));
        services.AddSingleton(_ => registration.Complete());
        services.AddSingleton(sp => Microsoft.Extensions.Options.Options.Create(Setup(sp).Options));
        services.AddSingleton(sp => Microsoft.Extensions.Options.Options.Create(Setup(sp).Relay));
        AddPlaces(services);
        services.AddSingleton<ICourierStatus>(sp => new StatusReader(sp.FindBroker(), sp.FindStore()));
        services.AddSingleton<Preparation>();
        services.AddSingleton<ReceiverHost>();
        services.AddHostedService<CourierWork>();
        services.AddSingleton(sp => new CourierLiveHealthCheck(sp));
        services.AddSingleton(sp => new CourierReadyHealthCheck(sp));
        return services;
    }

    /// <summary>The store, what is done with it, and the broker.</summary>
    private static void AddPlaces(IServiceCollection services)
    {
        services.AddSingleton(sp => new ContractCodec(
            Setup(sp).Options.Json, Setup(sp).Options.Source, Setup(sp).Options.MaxEventBytes, Clock(sp)));
        services.AddSingleton(sp => Engine(sp, nameof(CourierOptions.Store), out var address)
            .CreateStore(address, Clock(sp), Logger<IStorePort>(sp)));
        services.AddSingleton<IStore>(sp => sp.GetRequiredService<IStorePort>());
        services.AddSingleton<IOutbox>(
            sp => new Outbox(sp.GetRequiredService<IStorePort>(), sp.GetRequiredService<ContractCodec>()));
        services.AddSingleton<ILaterEvents>(sp => new LaterEvents(sp.GetRequiredService<IStorePort>().LaterEvents));
        services.AddSingleton<ISchedules>(sp => new ScheduleBook(sp.GetRequiredService<IStorePort>()));
        services.AddSingleton(NewBroker);
        services.AddSingleton<IHeldEvents>(sp => sp.GetRequiredService<IStorePort>().Held);
        services.AddSingleton(sp => sp.GetRequiredService<IBroker>() is var broker && broker.DeadLetters is { } letters
            ? letters : throw new CourierException(
                $"{broker.DisplayName} keeps no dead letters; look for them in the services that receive from it"));
        services.AddSingleton<IQueues>(sp => new Queues(sp.GetRequiredService<IBroker>()));
        services.AddSingleton<IWorkers>(sp => new Workers(sp.GetRequiredService<IBroker>()));
    }

    /// <summary>The store, where the settings name one.</summary>
    internal static IStorePort? FindStore(this IServiceProvider services) =>
        Setup(services).Options.Store is null ? null : services.GetRequiredService<IStorePort>();

    /// <summary>The broker, where the settings name one.</summary>
    internal static IBroker? FindBroker(this IServiceProvider services) =>
        Setup(services).Options.Broker is null ? null : services.GetRequiredService<IBroker>();

    /// <summary>The broker; with a companion, where it can do less than those need who receive here.</summary>
    private static IBroker NewBroker(IServiceProvider services)
    {
        var (clock, logger) = (Clock(services), Logger<IBroker>(services));
        var broker = Engine(services, nameof(CourierOptions.Broker), out var address)
            .CreateBroker(address, clock, logger);
        if (Setup(services) is not { Bindings.Count: > 0, Options.Store: not null }
            || !BrokerWithCompanion.IsNeededBy(broker))
            return broker;
        var companion = Engine(services, nameof(CourierOptions.Store), out address)
            .CreateCompanion(address, clock, logger);
        return new BrokerWithCompanion(broker, companion, clock, logger);
    }

    private static CourierSetup Setup(IServiceProvider services) => services.GetRequiredService<CourierSetup>();

    private static TimeProvider Clock(IServiceProvider services) =>
        services.GetRequiredService<CourierClock>().Aside;

    private static ILogger? Logger<T>(IServiceProvider services) => services.GetService<ILogger<T>>();

    private static IEngine Engine(IServiceProvider services, string part, out EngineAddress address)
    {
        var setup = Setup(services);
        var text = (part == nameof(CourierOptions.Store) ? setup.Options.Store : setup.Options.Broker)
            ?? throw setup.NotSet(part);
        if (!EngineAddress.TryParse(text, out var parsed))
            throw new CourierException(
                $"{setup.NameOf(part)} is not an address: {EngineAddress.Wrong(text, part)}");
        address = parsed;
        return services.GetServices<IEngine>().FirstOrDefault(e => e.Scheme == parsed.Scheme)
            ?? throw new CourierException($"{setup.NameOf(part)} names the engine '{parsed.Scheme}:', which is not "
                + $"known to this program: {EngineAddress.Remedy(parsed.Scheme)}");
    }
}
