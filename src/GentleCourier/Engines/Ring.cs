namespace GentleCourier.Engines;

/// <summary>How engines on a database keep what queues have counted: ten minutes of it, in a ring.</summary>
internal static class Ring
{
    /// <summary>How far two counts lie apart, where workers beat as often.</summary>
    public static readonly TimeSpan Every = TimeSpan.FromSeconds(10);

    /// <summary>How many counts there are.</summary>
    public const int Places = 60;
}
