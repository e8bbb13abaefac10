using GentleCourier.Hosting;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection.Extensions;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Testing;

/// <summary>Has a host take part in a trial: what its code and settings say stays, but for place and time.</summary>
internal static class Joining
{
    /// <summary>The longest that there may be: time is moved by less while anything is in hand.</summary>
    public static readonly TimeSpan Lease = TimeSpan.FromMinutes(10);

    public static TrialService Join(
        this IServiceCollection services, string name, Places places, TrialClock clock, Sight sight)
    {
        if (!HasCourier(services))
            throw new TrialException(
                $"service '{name}' has no courier: AddGentleCourier was not called for its services before the trial "
                + "was told of them");
        var service = new TrialService(name);
        var registration = Registration.Of(services, out _);
        registration.Override = courier => Move(courier, name, places);
        registration.Checked = Lengthen;
        services.RemoveAll<TimeProvider>();
        services.AddSingleton(clock.Application);
        services.Replace(ServiceDescriptor.Singleton(new CourierClock(clock.Library, clock.Aside)));
        services.AddSingleton<IWitness>(new Witness(name, sight, clock, () => service.Codec));
        foreach (var engine in places.Engines) services.AddSingleton(engine);
        services.AddLogging(logging => logging.AddProvider(new TrialLogger(name, sight)));
        // Before anything else of the host starts.
        services.Insert(0, ServiceDescriptor.Singleton<IHostedService>(provider => new Attendance(service, provider)));
        return service;
    }

    /// <summary>Whether <c>AddGentleCourier</c> has been called.</summary>
    public static bool HasCourier(IServiceCollection services) =>
        services.Any(d => d.ServiceType == typeof(Registration) && !d.IsKeyedService);

    private static void Move(CourierBuilder courier, string name, Places places)
    {
        var options = courier.Options;
        var isUnsaid = options is { Store: null, Broker: null };
        var needsStore = courier.Bindings.Any(b => b.Options.Inbox) || courier.Schedules.Count > 0
            || courier.StorePreparations.Count > 0 || courier.MakersOfTables.Count > 0;
        if (isUnsaid || needsStore || options.Store is not null) options.Store = places.StoreOf(name);
        if (isUnsaid || courier.Bindings.Count > 0 || options.Broker is not null) options.Broker = places.Broker;
        options.Source ??= $"urn:trial:{name}";
        options.CreateMissing = true;
    }

    private static void Lengthen(CourierSetup setup)
    {
        foreach (var binding in setup.Bindings) binding.Options.Lease = Lease;
    }

    /// <summary>Tells when the host has started.</summary>
    private sealed class Attendance(TrialService service, IServiceProvider provider) : IHostedLifecycleService
    {
        public Task StartingAsync(CancellationToken cancellationToken)
        {
            service.Provider = provider;
            return Task.CompletedTask;
        }

        public Task StartAsync(CancellationToken cancellationToken) => Task.CompletedTask;

        public Task StartedAsync(CancellationToken cancellationToken)
        {
            service.Started.TrySetResult();
            return Task.CompletedTask;
        }

        public Task StoppingAsync(CancellationToken cancellationToken)
        {
            service.IsStopped = true;
            return Task.CompletedTask;
        }

        public Task StopAsync(CancellationToken cancellationToken) => Task.CompletedTask;

        public Task StoppedAsync(CancellationToken cancellationToken) => Task.CompletedTask;
    }
}
