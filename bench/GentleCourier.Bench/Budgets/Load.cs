using System.Globalization;

namespace GentleCourier.Bench.Budgets;

/// <summary>A journey that is measured.</summary>
/// <param name="Engine"><c>sqlite</c>, <c>postgres</c> or <c>amqp</c>.</param>
/// <param name="Rate">Events a second; 0: as fast as it goes.</param>
/// <param name="Publishers">How many publish at once, each on a connection of its own.</param>
/// <param name="Parallel">How many handlers run at once.</param>
internal sealed record Load(string Engine, int Rate, int Publishers, int Parallel)
{
    public static readonly string[] Engines = ["sqlite", "postgres", "amqp"];

    /// <summary>How many events are measured.</summary>
    public int Events(int seconds) => Rate > 0 ? Math.Max(5, Rate * seconds) : 1_000 * seconds;

    public override string ToString() => string.Create(
        CultureInfo.InvariantCulture,
        $"{Engine}, {(Rate == 0 ? "as fast as it goes" : $"{Rate:N0} a second")}, "
        + $"{Publishers} publisher{(Publishers == 1 ? "" : "s")}, Parallel {Parallel}");
}

/// <summary>Where the parts of a journey find each other, by the engines' addresses.</summary>
/// <param name="Store">The publisher's store.</param>
/// <param name="Inbox">The receiver's store.</param>
/// <param name="Broker">The broker.</param>
internal sealed record Site(string Store, string Inbox, string Broker);
