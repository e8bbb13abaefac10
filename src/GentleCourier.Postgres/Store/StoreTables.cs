namespace GentleCourier.Postgres;

/// <summary>The tables of a store.</summary>
internal static class StoreTables
{
    public static readonly Schema Schema = new(StoreSteps.History);
}
