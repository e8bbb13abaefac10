using System.CommandLine;
using System.Globalization;
using GentleCourier.ByHand;
using GentleCourier.Engines;

namespace GentleCourier.Cli;

/// <summary>Options that orders by hand have in common: by whom, why, and for how long.</summary>
internal sealed class OrderOptions
{
    private readonly Option<string?> by = new("--by")
    {
        HelpName = "NAME", Description = "Who wants it, for those who see it. [default: this user and host]",
    };
    private readonly Option<string?> why = new("--why")
    {
        HelpName = "TEXT", Description = "Why, for those who see it.",
    };
    private readonly Option<TimeSpan?> duration;
    private readonly Option<string?> until = new("--until")
    {
        HelpName = "TIME", Description = "It ends by itself at this time, such as 14:30 or \"2031-06-14 14:30\".",
    };

    /// <param name="otherwise">For how long, where nobody says it, in words.</param>
    public OrderOptions(string otherwise) => duration = new Option<TimeSpan?>("--for")
    {
        HelpName = "TIME",
        Description = $"It ends by itself after this time, such as 30m or 2h. [default: {otherwise}]",
        CustomParser = result => Plain.ParseTime(result),
    };

    public OrderOptions AddTo(Command command, bool ends = true)
    {
        if (ends)
        {
            command.Options.Add(duration);
            command.Options.Add(until);
        }
        command.Options.Add(why);
        command.Options.Add(by);
        return this;
    }

    public HandNote NoteOf(ParseResult result) => Orders.Note(
        result.GetValue(by) is { } name && !string.IsNullOrWhiteSpace(name) ? name
            : $"{Environment.UserName}@{Environment.MachineName}",
        result.GetValue(why));

    /// <summary>For how long; null where that is not said.</summary>
    public TimeSpan? DurationOf(ParseResult result)
    {
        if (result.GetValue(until) is not { } text) return Checked(result.GetValue(duration), duration.Name);
        if (result.GetValue(duration) is not null) throw new UsageException("say --for or --until, not both");
        var now = DateTimeOffset.UtcNow;
        var end = Plain.Moment(text, until.Name, Plain.Today);
        // A time of day that has passed is tomorrow's.
        if (end <= now && TimeOnly.TryParse(text, CultureInfo.InvariantCulture, out _))
            end = Plain.Moment(text, until.Name, Plain.Today.AddDays(1));
        return end > now ? Checked(end - now, until.Name)
            : throw new UsageException($"--until {Plain.Time(end)} has passed");
    }

    private static TimeSpan? Checked(TimeSpan? time, string option) =>
        time is null || (time >= Orders.Shortest && time <= Orders.Longest) ? time
            : throw new UsageException($"{option} must be from 1s to 365d from now");
}
