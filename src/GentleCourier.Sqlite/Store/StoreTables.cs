namespace GentleCourier.Sqlite;

/// <summary>The tables of a store.</summary>
internal static class StoreTables
{
    public static readonly Schema Schema = new(sharesItsFile: true, StoreSteps.History);
}
