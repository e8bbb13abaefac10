using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Options;

namespace GentleCourier.Hosting;

/// <summary>
/// What the code of one program has registered: a program has one courier, and whoever adds to it, in whatever module,
/// adds to the same. What one module says otherwise than another is refused by name.
/// </summary>
internal sealed class Registration(CourierBuilder courier)
{
    private const string Section = "Courier";

    private readonly Dictionary<string, object?> untouched = Said(courier);
    private IConfigurationSection? settings;

    /// <summary>
    /// What a test says over all that code and settings do: before it is checked, and once it has been.
    /// </summary>
    public Action<CourierBuilder>? Override { get; set; }

    public Action<CourierSetup>? Checked { get; set; }

    /// <summary>That of this program, made with the first call.</summary>
    /// <param name="services">The application's services.</param>
    /// <param name="isFirst">Whether it has just been made.</param>
    public static Registration Of(IServiceCollection services, out bool isFirst)
    {
        var known = services.FirstOrDefault(d => d.ServiceType == typeof(Registration) && !d.IsKeyedService);
        isFirst = known is null;
        if (known is not null) return (Registration)known.ImplementationInstance!;
        var made = new Registration(new CourierBuilder(services));
        services.AddSingleton(made);
        return made;
    }

    /// <exception cref="OptionsValidationException">It contradicts what another module has said.</exception>
    public void Add(IConfigurationSection? section, Action<CourierBuilder> configure)
    {
        Add(section);
        var before = Said(courier);
        configure(courier);
        foreach (var (name, value) in Said(courier))
        {
            if (!before.TryGetValue(name, out var said) || Equals(said, value)) continue;
            if (untouched.TryGetValue(name, out var nobody) && Equals(said, nobody)) continue;
            throw Contradiction(name, "in code");
        }
    }

    /// <summary>With the settings as they are now.</summary>
    public CourierSetup Complete()
    {
        var setup = new CourierSetup(courier, settings?.Path ?? Section, settings, Override);
        Checked?.Invoke(setup);
        return setup;
    }

    private void Add(IConfigurationSection? section)
    {
        if (section is null) return;
        if (settings is not null && settings.Path != section.Path)
            throw Settings.Problem(section.Path,
                $"AddGentleCourier is told to read the section {settings.Path}, and elsewhere the section "
                + $"{section.Path}; a program has one courier: have both read one");
        // Modules may each have been handed a configuration; where it is not the same, one would silently not be read.
        if (settings is not null)
        {
            foreach (var (key, value) in section.AsEnumerable())
                if (key != section.Path && value is not null && settings[key[(section.Path.Length + 1)..]] != value)
                    throw Contradiction(key, "in the configurations that AddGentleCourier is given");
        }
        settings ??= section;
    }

    /// <summary>What code has said of everything that can be said once only.</summary>
    private static Dictionary<string, object?> Said(CourierBuilder courier)
    {
        var said = new Dictionary<string, object?>(StringComparer.Ordinal) { ["Json"] = courier.Options.Json };
        foreach (var setting in SettingTables.Courier) said[setting.Name] = setting.Get(courier.Options);
        foreach (var setting in SettingTables.Relay) said[$"Relay:{setting.Name}"] = setting.Get(courier.Relay);
        foreach (var setting in SettingTables.Retention)
            said[$"Retention:{setting.Name}"] = setting.Get(courier.Retention);
        foreach (var (type, queues) in courier.Options.Routes.Addresses)
            said[$"Routes:{type}"] = string.Join(", ", queues);
        return said;
    }

    // Not with what they say: it may hold a secret.
    private static OptionsValidationException Contradiction(string name, string where) => Settings.Problem(
        Section, $"{name} is said twice, and otherwise, {where}; a program has one courier: say it in one place");
}
