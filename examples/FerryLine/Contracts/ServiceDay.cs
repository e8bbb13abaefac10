namespace FerryLine.Contracts;

/// <summary>The one day that the example plays.</summary>
public static class ServiceDay
{
    /// <summary>The date, in the ferries' own time zone, which is UTC.</summary>
    public static readonly DateOnly Today = new(2031, 6, 14);
}
