namespace GentleCourier;

internal static class WorkerName
{
    /// <summary>This process, for people: host and process id.</summary>
    public static string OfProcess { get; } = $"{Environment.MachineName}/{Environment.ProcessId}";

    /// <summary>This process and, since it may run several of a kind, a number that no other has.</summary>
    public static string Unique() => $"{OfProcess}/{Random.Shared.Next():x8}";
}
