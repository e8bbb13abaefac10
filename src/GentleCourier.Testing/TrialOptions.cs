namespace GentleCourier.Testing;

/// <summary>How a <see cref="Trial"/> is run.</summary>
public sealed class TrialOptions
{
    /// <summary>What its clock shows at first, to the millisecond. Now, where it is not said.</summary>
    public DateTimeOffset Start { get; set; } = TimeProvider.System.GetUtcNow();

    /// <summary>
    /// How long, by the machine's clock, nothing may happen while something is still to be done: 1 millisecond to 1
    /// hour. After that the trial fails, and says what it waits for. A handler that really takes longer needs a higher
    /// limit.
    /// </summary>
    public TimeSpan Limit { get; set; } = TimeSpan.FromSeconds(10);

    /// <summary>
    /// How many deliveries there may be in one call of a method of the trial, 1 or more: what goes on for ever ends
    /// there.
    /// </summary>
    public int MostDeliveries { get; set; } = 10_000;

    /// <summary>
    /// Where the databases of the trial are made; null: SQLite files in a temporary folder, in memory where the system
    /// has a file system there.
    /// </summary>
    public TrialServer? Server { get; set; }

    /// <summary>
    /// The address of a database of the test's own, as in the setting <c>Store</c>: <c>sqlite:FILE</c> or
    /// <c>postgres://USER@HOST/DATABASE</c>. For a <see cref="TrialStore"/> alone, which makes the library's tables in
    /// it where they are missing, and leaves it as it is in the end; null: a new one.
    /// </summary>
    public string? Database { get; set; }

    /// <summary>
    /// Is told each line that the services log, and each thing that the trial sees, as it happens; such as a test
    /// framework's output. It must be thread-safe.
    /// </summary>
    public Action<string>? Log { get; set; }

    /// <summary>The options, where they may be so.</summary>
    internal static TrialOptions Checked(TrialOptions? options)
    {
        options ??= new TrialOptions();
        if (options.Limit < TimeSpan.FromMilliseconds(1) || options.Limit > TimeSpan.FromHours(1))
            throw new ArgumentOutOfRangeException(
                nameof(options), options.Limit, "TrialOptions.Limit must be 1 millisecond to 1 hour");
        if (options.MostDeliveries < 1)
            throw new ArgumentOutOfRangeException(
                nameof(options), options.MostDeliveries, "TrialOptions.MostDeliveries must be 1 or more");
        if (options is { Database: not null, Server: not null })
            throw new ArgumentException("TrialOptions.Database or TrialOptions.Server: not both", nameof(options));
        return options;
    }
}
