using System.Diagnostics.CodeAnalysis;

namespace GentleCourier.Engines;

/// <summary>An address in two parts, <c>scheme:location</c>.</summary>
/// <param name="Scheme">Names the engine; lower case.</param>
/// <param name="Location">What the engine makes of it: a path, a host. It may hold a secret: do not show it.</param>
internal sealed record EngineAddress(string Scheme, string Location)
{
    /// <summary>
    /// Splits <paramref name="text"/> at its first colon. <c>postgresql:</c>, as PostgreSQL's own programs write it, is
    /// <c>postgres:</c>.
    /// </summary>
    /// <returns>False where there is no scheme or no location.</returns>
    public static bool TryParse(string? text, [NotNullWhen(true)] out EngineAddress? address)
    {
        var colon = text?.IndexOf(':', StringComparison.Ordinal) ?? -1;
        address = null;
        if (colon <= 0 || colon == text!.Length - 1 || text.AsSpan(0, colon).IndexOfAnyExceptInRange('a', 'z') >= 0)
            return false;
        var scheme = text[..colon];
        address = new EngineAddress(scheme == "postgresql" ? "postgres" : scheme, text[(colon + 1)..]);
        return true;
    }

    /// <summary>The scheme alone: a location may hold a secret.</summary>
    public override string ToString() => $"{Scheme}:…";

    /// <summary>What addresses look like.</summary>
    /// <param name="part">Of what: a store, or a broker.</param>
    internal static string Examples(string part) => part.Equals("store", StringComparison.OrdinalIgnoreCase)
        ? "sqlite:store.db or postgres://USER@HOST/DATABASE"
        : "sqlite:broker.db, postgres://USER@HOST/DATABASE or amqps://USER@HOST";

    /// <summary>
    /// What is wrong with a text that cannot be split, and what to write instead; without the text, which may hold a
    /// secret.
    /// </summary>
    /// <param name="text">The text.</param>
    /// <param name="part">What it is to be the address of: a store, or a broker.</param>
    internal static string Wrong(string text, string part)
    {
        var form = $"an address is ENGINE:LOCATION, such as {Examples(part)}";
        var names = text.Split(';').Select(p => p.Split('=')).Where(p => p.Length > 1)
            .Select(p => p[0].Trim().ToUpperInvariant()).ToHashSet(StringComparer.Ordinal);
        if (names.Overlaps(["DATA SOURCE", "DATASOURCE", "FILENAME"]))
            return "it is a driver's connection string; an address is sqlite:FILE, with what stands there behind "
                + "'Data Source='";
        if (names.Overlaps(["HOST", "SERVER", "USERNAME", "USER ID", "PASSWORD"]))
            return $"it is a driver's connection string; {form}, with the password in PGPASSWORD or a password file";
        return text.EndsWith(".db", StringComparison.Ordinal) || text.StartsWith('/') || text.StartsWith('.')
            ? $"it names no engine; for a file say sqlite:FILE ({form})" : $"it names no engine; {form}";
    }

    /// <summary>How an engine that is not known becomes known.</summary>
    internal static string Remedy(string scheme) => scheme switch
    {
        "sqlite" => "add the package GentleCourier.Sqlite, and say courier.UseSqlite()",
        "postgres" => "add the package GentleCourier.Postgres, and say courier.UsePostgres()",
        "amqp" or "amqps" => "add the package GentleCourier.Amqp, and say courier.UseAmqp()",
        _ => "there are sqlite:, postgres:, amqps: and amqp:",
    };
}
