namespace GentleCourier.Hosting;

/// <summary>Which settings there are.</summary>
internal static class SettingTables
{
    public static readonly Setting<CourierOptions>[] Courier =
    [
        Setting.Of<CourierOptions, string?>("Source", o => o.Source, (o, v) => o.Source = v, Setting.Text),
        Setting.Of<CourierOptions, string?>("Store", o => o.Store, (o, v) => o.Store = v, Setting.Text),
        Setting.Of<CourierOptions, string?>("Broker", o => o.Broker, (o, v) => o.Broker = v, Setting.Text),
        Setting.Of<CourierOptions, bool>(
            "CreateMissing", o => o.CreateMissing, (o, v) => o.CreateMissing = v, Setting.Flag),
        Setting.Of<CourierOptions, int>(
            "MaxEventBytes", o => o.MaxEventBytes, (o, v) => o.MaxEventBytes = v, Setting.Number),
    ];

    public static readonly Setting<RelayOptions>[] Relay =
    [
        Setting.Of<RelayOptions, bool>("Enabled", o => o.Enabled, (o, v) => o.Enabled = v, Setting.Flag),
        Setting.Of<RelayOptions, int>("BatchSize", o => o.BatchSize, (o, v) => o.BatchSize = v, Setting.Number),
        Setting.Of<RelayOptions, TimeSpan>("Lease", o => o.Lease, (o, v) => o.Lease = v, Setting.Time),
        Setting.Of<RelayOptions, TimeSpan>("FirstDelay", o => o.FirstDelay, (o, v) => o.FirstDelay = v, Setting.Time),
        Setting.Of<RelayOptions, TimeSpan>(
            "MaxDelay", o => o.MaxDelay, (o, v) => o.MaxDelay = v, Setting.Time),
    ];

    public static readonly Setting<RetentionOptions>[] Retention =
    [
        Setting.Of<RetentionOptions, TimeSpan?>("Inbox", o => o.Inbox, (o, v) => o.Inbox = v, Setting.OptionalTime),
        Setting.Of<RetentionOptions, TimeSpan?>(
            "Refused", o => o.Refused, (o, v) => o.Refused = v, Setting.OptionalTime),
    ];

    public static readonly Setting<ReceiverOptions>[] Receiver =
    [
        Setting.Of<ReceiverOptions, Prefetch>("Prefetch", o => o.Prefetch, (o, v) => o.Prefetch = v, Setting.Prefetch),
        Setting.Of<ReceiverOptions, int>("Parallel", o => o.Parallel, (o, v) => o.Parallel = v, Setting.Number),
        Setting.Of<ReceiverOptions, int>("BatchSize", o => o.BatchSize, (o, v) => o.BatchSize = v, Setting.Number),
        Setting.Of<ReceiverOptions, TimeSpan>("BatchWait", o => o.BatchWait, (o, v) => o.BatchWait = v, Setting.Time),
        Setting.Of<ReceiverOptions, TimeSpan?>(
            "TimeLimit", o => o.TimeLimit, (o, v) => o.TimeLimit = v, Setting.OptionalTime),
        Setting.Of<ReceiverOptions, Settling>(
            "Settling", o => o.Settling, (o, v) => o.Settling = v, Setting.OneOf<Settling>),
        Setting.Of<ReceiverOptions, OtherData>(
            "OnOtherData", o => o.OnOtherData, (o, v) => o.OnOtherData = v, Setting.OneOf<OtherData>),
        Setting.Of<ReceiverOptions, int>(
            "MaxAttempts", o => o.MaxAttempts, (o, v) => o.MaxAttempts = v, Setting.Number),
        Setting.Of<ReceiverOptions, int>(
            "RetriesAtOnce", o => o.RetriesAtOnce, (o, v) => o.RetriesAtOnce = v, Setting.Number),
        Setting.Of<ReceiverOptions, TimeSpan?>("MaxAge", o => o.MaxAge, (o, v) => o.MaxAge = v, Setting.OptionalTime),
        Setting.Of<ReceiverOptions, TimeSpan>(
            "FirstDelay", o => o.FirstDelay, (o, v) => o.FirstDelay = v, Setting.Time),
        Setting.Of<ReceiverOptions, TimeSpan>(
            "MaxDelay", o => o.MaxDelay, (o, v) => o.MaxDelay = v, Setting.Time),
        Setting.Of<ReceiverOptions, int>("BrakeAfter", o => o.BrakeAfter, (o, v) => o.BrakeAfter = v, Setting.Number),
        Setting.Of<ReceiverOptions, TimeSpan>("Patience", o => o.Patience, (o, v) => o.Patience = v, Setting.Time),
        Setting.Of<ReceiverOptions, double?>(
            "MaxPerSecond", o => o.MaxPerSecond, (o, v) => o.MaxPerSecond = v, Setting.OptionalRate),
        Setting.Of<ReceiverOptions, TimeSpan>("Lease", o => o.Lease, (o, v) => o.Lease = v, Setting.Time),
        Setting.Of<ReceiverOptions, TimeSpan>("StopLimit", o => o.StopLimit, (o, v) => o.StopLimit = v, Setting.Time),
        Setting.Of<ReceiverOptions, bool>("InKeyOrder", o => o.InKeyOrder, (o, v) => o.InKeyOrder = v, Setting.Flag),
        Setting.Of<ReceiverOptions, bool>("Inbox", o => o.Inbox, (o, v) => o.Inbox = v, Setting.Flag),
        Setting.Of<ReceiverOptions, TimeSpan?>(
            "KeepDeadLetters", o => o.KeepDeadLetters, (o, v) => o.KeepDeadLetters = v, Setting.OptionalTime),
    ];

    public static readonly Setting<ScheduleSettings>[] Schedule =
    [
        Setting.Of<ScheduleSettings, string?>("Type", s => s.Type, (s, v) => s.Type = v, Setting.Text),
        Setting.Of<ScheduleSettings, string?>("Data", s => s.Data, (s, v) => s.Data = v, Setting.Text),
        Setting.Of<ScheduleSettings, string?>("Subject", s => s.Subject, (s, v) => s.Subject = v, Setting.Text),
        Setting.Of<ScheduleSettings, string?>(
            "PartitionKey", s => s.PartitionKey, (s, v) => s.PartitionKey = v, Setting.Text),
        Setting.Of<ScheduleSettings, string?>(
            "Cron", s => s.Options.Cron, (s, v) => s.Options.Cron = v, Setting.OptionalText),
        Setting.Of<ScheduleSettings, string?>(
            "TimeZone", s => s.Options.TimeZone, (s, v) => s.Options.TimeZone = v!, Setting.Text),
        Setting.Of<ScheduleSettings, TimeSpan?>(
            "Every", s => s.Options.Every, (s, v) => s.Options.Every = v, Setting.OptionalTime),
        Setting.Of<ScheduleSettings, Missed>(
            "Missed", s => s.Options.Missed, (s, v) => s.Options.Missed = v, Setting.OneOf<Missed>),
        Setting.Of<ScheduleSettings, int>(
            "MaxMissed", s => s.Options.MaxMissed, (s, v) => s.Options.MaxMissed = v, Setting.Number),
        Setting.Of<ScheduleSettings, TimeSpan>(
            "Jitter", s => s.Options.Jitter, (s, v) => s.Options.Jitter = v, Setting.Time),
    ];
}

/// <summary>
/// What settings say of a schedule: when it fires, and, where no code declares it, what its events are.
/// </summary>
internal sealed class ScheduleSettings(ScheduleOptions options)
{
    public ScheduleOptions Options { get; } = options;

    public string? Type { get; set; }

    public string? Data { get; set; }

    public string? Subject { get; set; }

    public string? PartitionKey { get; set; }
}
