using GentleCourier.Engines;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Options;

namespace GentleCourier.Hosting;

/// <summary>
/// What this process does, as its code and, over it, its settings say. It is made when it is first asked for, which is
/// when the host is built or later, so that whatever has been added to the configuration by then is read.
/// </summary>
internal sealed class CourierSetup
{
    private readonly CourierBuilder courier;
    private readonly string path;

    /// <exception cref="OptionsValidationException">The message names the setting that is wrong.</exception>
    public CourierSetup(
        CourierBuilder courier, string path, IConfigurationSection? settings, Action<CourierBuilder>? over = null)
    {
        (this.courier, this.path) = (courier, path);
        Strangers = settings is null ? [] : new Settings(settings, courier).Read();
        over?.Invoke(courier);
        if (Problems() is { Count: > 0 } found)
            throw new OptionsValidationException(path, typeof(CourierOptions), found);
        foreach (var binding in courier.Bindings)
        {
            binding.Around = [.. courier.Checks, .. courier.Steps];
            binding.BeginsFirst = binding is { Before: not null, BatchSize: 1 } && courier.Steps.Count == 0;
            if (Options.Store is not null && binding.Options.Inbox) binding.LongestAsked = Retention.Inbox / 2;
        }
    }

    public CourierOptions Options => courier.Options;

    public RelayOptions Relay => courier.Relay;

    public RetentionOptions Retention => courier.Retention;

    public IReadOnlyCollection<QueueBinding> Bindings => courier.Bindings;

    public IReadOnlyCollection<Scheduling.DeclaredSchedule> Schedules => courier.Schedules.Values;

    /// <summary>Makes the service's own tables.</summary>
    public IReadOnlyList<Func<IStore, CancellationToken, Task>> StorePreparations => courier.StorePreparations;

    /// <summary>See <see cref="CourierBuilder.MakersOfTables"/>.</summary>
    public IReadOnlyList<Func<IServiceProvider, IStorePort, string?>> MakersOfTables => courier.MakersOfTables;

    public IServiceCollection Services => courier.Services;

    /// <summary>What settings name, and this process does not know.</summary>
    public IReadOnlyList<Stranger> Strangers { get; }

    /// <summary>Whether events of the store's outbox are relayed here.</summary>
    public bool Relays => Options is { Store: not null, Broker: not null } && Relay.Enabled;

    /// <summary>A setting, as people write it.</summary>
    public string NameOf(string setting) => $"{path}:{setting}";

    /// <summary>To who asks for what the settings have left out.</summary>
    public OptionsValidationException NotSet(string part) => Settings.Problem(NameOf(part),
        $"{NameOf(part)} is not set, and this process needs it: set it to an address such as "
        + EngineAddress.Examples(part));

    private List<string> Problems() =>
    [
        .. Options.Problems().Select(NameOf),
        .. Relay.Problems().Select(p => NameOf($"Relay:{p}")),
        .. Bindings.SelectMany(b => b.Options.Problems().Select(p => NameOf($"Receivers:{b.Queue}:{p}"))),
        .. Schedules.SelectMany(s => s.Options.Problems().Select(p => NameOf($"Schedules:{s.Name}:{p}"))),
        .. Retention.Problems(Bindings).Select(p => NameOf($"Retention:{p}")),
        .. Missing(),
    ];

    private IEnumerable<string> Missing()
    {
        if (Options.Store is null && Options.Broker is null)
            yield return $"{NameOf("Store")} and {NameOf("Broker")} are both not set, so there is nothing to do; set "
                + "the one that this process needs, or both";
        if (Options.Broker is null && Bindings.Count > 0)
            yield return $"{NameOf("Broker")} is not set: where are the queues that this process receives from?";
        if (Options.Store is not null && Options.Source is null)
            yield return $"{NameOf("Source")} is not set: in whose name does this service publish?";
        if (Options.Store is not null) yield break;
        if (MakersOfTables.Count > 0)
            yield return $"{NameOf("Store")} is not set: in which database is the outbox of the context that this "
                + "process uses?";
        if (StorePreparations.Count > 0)
            yield return $"{NameOf("Store")} is not set: where are the tables that this process prepares?";
        if (Schedules.Count > 0)
            yield return $"{NameOf("Store")} is not set: where are the schedules kept that this process declares?";
        foreach (var binding in Bindings.Where(b => b.Options.Inbox))
            yield return $"{NameOf("Store")} is not set, but queue '{binding.Queue}' is received with an inbox; set "
                + $"it, or set {NameOf($"Receivers:{binding.Queue}:Inbox")} to false";
    }
}
