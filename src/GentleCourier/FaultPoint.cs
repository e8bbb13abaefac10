namespace GentleCourier;

/// <summary>
/// A named place between two writes. Tests arm it to kill the process or to fail right there; unarmed it is one check.
/// </summary>
internal static class FaultPoint
{
    /// <summary>What happens at each place; called with its name.</summary>
    public static Action<string>? Armed { get; set; }

    public static void Pass(string name) => Armed?.Invoke(name);
}
