using System.Text;
using GentleCourier.Events;
using GentleCourier.Watching;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.Options;

namespace GentleCourier.Hosting;

/// <summary>
/// Reads the section <c>Courier</c> over what the code has said. A value that cannot be read, a name that no option has
/// and a value in the place of a section are errors that say where: a setting that is silently ignored costs people
/// hours. What belongs to another process, in settings that several share, is passed by and told of.
/// </summary>
internal sealed class Settings(IConfigurationSection root, CourierBuilder courier)
{
    private static readonly string[] Sections = ["Relay", "Receivers", "Retention", "Routes", "Schedules"];

    private readonly List<Stranger> strangers = [];

    /// <summary>Reads all of it.</summary>
    /// <returns>Receivers and schedules that nobody here knows.</returns>
    /// <exception cref="OptionsValidationException">The message names the setting.</exception>
    public IReadOnlyList<Stranger> Read()
    {
        Read(root, SettingTables.Courier, courier.Options, Sections);
        Read(root.GetSection("Relay"), SettingTables.Relay, courier.Relay);
        Read(root.GetSection("Retention"), SettingTables.Retention, courier.Retention);
        foreach (var child in ChildrenOf("Routes", "names of types")) ReadRoute(child, courier.Options.Routes);
        foreach (var child in ChildrenOf("Schedules", "names of schedules")) ReadSchedule(child);
        foreach (var child in ChildrenOf("Receivers", "names of queues")) ReadReceiver(child);
        return strangers;
    }

    public static OptionsValidationException Problem(string path, string message) =>
        new(path, typeof(CourierOptions), [message]);

    private static void Read<TOptions>(
        IConfigurationSection section, Setting<TOptions>[] table, TOptions options, params string[] sections)
    {
        RefuseValue(section, string.Join(", ", table.Select(s => s.Name)));
        foreach (var child in section.GetChildren())
        {
            if (sections.Contains(child.Key, StringComparer.OrdinalIgnoreCase)) continue;
            var setting = Array.Find(table, s => s.Name.Equals(child.Key, StringComparison.OrdinalIgnoreCase))
                ?? throw Unknown(child, section, [.. table.Select(s => s.Name), .. sections]);
            if (child.GetChildren().FirstOrDefault() is { } below)
                throw Problem(child.Path, $"{child.Path} takes a value, but there is {below.Path}");
            if (child.Value is { } text) setting.Read(options, child.Path, text);
        }
    }

    private static OptionsValidationException Unknown(
        IConfigurationSection child, IConfigurationSection section, string[] known)
    {
        var meant = Nearest(child.Key, known) is { } nearest ? $" (did you mean {nearest}?)" : "";
        return Problem(child.Path, $"{child.Path} is not a setting of this process{meant}; {section.Path} knows "
            + string.Join(", ", known.Order(StringComparer.Ordinal)));
    }

    private IEnumerable<IConfigurationSection> ChildrenOf(string name, string kind)
    {
        var section = root.GetSection(name);
        RefuseValue(section, kind);
        return section.GetChildren();
    }

    private static void RefuseValue(IConfigurationSection section, string known)
    {
        if (section.Value is { Length: > 0 } value)
            throw Problem(section.Path,
                $"{section.Path} is a section ({section.Path}:…, with {known}), but has the value '{value}'");
    }

    private static void ReadRoute(IConfigurationSection child, RouteOptions routes)
    {
        if (child.GetChildren().FirstOrDefault() is { } below)
            throw Problem(child.Path, $"{child.Path} takes the names of queues as one text, separated by commas, such "
                + $"as 'fares, deck-count', but there is {below.Path}");
        try
        {
            routes.Add(child.Key, (child.Value ?? "").Split(
                ',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries));
        }
        catch (ArgumentException e)
        {
            throw Problem(child.Path, $"{child.Path}: {Words.FirstLine(e.Message)}");
        }
    }

    /// <summary>
    /// One that code declares may be set otherwise; one with a type and data is declared by settings alone.
    /// </summary>
    private void ReadSchedule(IConfigurationSection child)
    {
        var declared = courier.Schedules.Values.FirstOrDefault(s => IsNamed(s.Name, child));
        var said = new ScheduleSettings(declared?.Options ?? new());
        Read(child, SettingTables.Schedule, said);
        switch (said, declared)
        {
            case ({ Type: null, Data: null, Subject: null, PartitionKey: null }, not null):
            case (_, { IsBySettings: true }):
                return;
            case (_, not null):
                throw Problem(child.Path, $"{child.Path} is declared in code, which says what its events are; settings "
                    + "say when it fires: take away Type, Data, Subject and PartitionKey");
            case ({ Type: { } type, Data: { } data }, null):
                Declare(child, said, type, data);
                break;
            case ({ Type: null, Data: null, Subject: null, PartitionKey: null }, null):
                strangers.Add(new(child.Path, Nearest(child.Key, courier.Schedules.Keys)));
                break;
            default:
                throw Problem(child.Path, $"{child.Path} is declared by settings alone, which takes both a Type, and "
                    + "its Data as a text of JSON");
        }
    }

    private void Declare(IConfigurationSection child, ScheduleSettings said, string type, string data)
    {
        if (!Names.IsQueue(child.Key))
            throw Problem(child.Path, $"{child.Path}: '{child.Key}' is not a schedule's name: {Names.QueueRule}");
        var draft = EventDraft.OfJson(
            type, Encoding.UTF8.GetBytes(data), new() { Subject = said.Subject, PartitionKey = said.PartitionKey });
        courier.Schedules.Add(child.Key, new(child.Key, said.Options, draft) { IsBySettings = true });
    }

    private void ReadReceiver(IConfigurationSection child)
    {
        var bound = courier.Bindings.FirstOrDefault(b => IsNamed(b.Queue, child));
        // Of another process's only names and values can be looked at: what its code says besides is not known here.
        Read(child, SettingTables.Receiver, bound?.Options ?? new());
        if (bound is not null) return;
        strangers.Add(new(child.Path, Nearest(child.Key, courier.Bindings.Select(b => b.Queue))));
    }

    /// <summary>Keys of a configuration, environment variables above all, come in any case.</summary>
    private static bool IsNamed(string name, IConfigurationSection child) =>
        name.Equals(child.Key, StringComparison.OrdinalIgnoreCase);

    private static string? Nearest(string name, IEnumerable<string> known) =>
        known.Where(k => Similar.Are(k, name)).MinBy(k => Similar.Distance(k, name));
}

/// <summary>Something that settings name and this process has not registered.</summary>
/// <param name="Path">Where it stands.</param>
/// <param name="Nearest">The nearest that is registered, if it may be a slip.</param>
internal sealed record Stranger(string Path, string? Nearest)
{
    public override string ToString() => Nearest is null ? Path : $"{Path} (did you mean {Nearest}?)";
}
