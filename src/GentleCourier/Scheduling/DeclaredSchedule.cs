using System.Diagnostics;
using System.Security.Cryptography;
using System.Text;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Scheduling;

/// <summary>A schedule, as this process declares it.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Options">When it fires.</param>
/// <param name="Draft">What all its events have in common.</param>
internal sealed record DeclaredSchedule(string Name, ScheduleOptions Options, EventDraft Draft)
{
    /// <summary>Whether settings alone declare it.</summary>
    public bool IsBySettings { get; init; }

    /// <summary>As it is kept where nothing is known of it yet.</summary>
    /// <exception cref="ContractException">Its event cannot be published.</exception>
    public ScheduleRow RowOf(ContractCodec codec)
    {
        var template = TemplateOf(codec);
        var rule = Options.Rule.ToJson();
        return new ScheduleRow(Name, 0)
        {
            Type = template.Type,
            Template = template.Json,
            Rule = rule,
            DeclaredRule = rule,
            Declaration = Convert.ToHexStringLower(
                SHA256.HashData([.. Encoding.UTF8.GetBytes(rule), .. template.Json.Span]))[..16],
        };
    }

    private EncodedEvent TemplateOf(ContractCodec codec)
    {
        // What happens to run while it is declared is not where its events come from.
        var current = Activity.Current;
        Activity.Current = null;
        try
        {
            return Draft.With(Name, DateTimeOffset.UnixEpoch).Encode(codec);
        }
        finally
        {
            Activity.Current = current;
        }
    }
}
