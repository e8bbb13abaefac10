namespace GentleCourier.Postgres;

/// <summary>How tables are kept.</summary>
internal static class Storage
{
    /// <summary>
    /// Rows come and go: they are cleared away by their number, not by their share of a table that may be long or
    /// empty.
    /// </summary>
    public const string ShortLived =
        "autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 5000, autovacuum_vacuum_cost_delay = 0, "
        + "autovacuum_vacuum_insert_scale_factor = 0, autovacuum_vacuum_insert_threshold = 1000000, "
        + "autovacuum_analyze_scale_factor = 0, autovacuum_analyze_threshold = 1000000";
}
