using CsCheck;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Scheduling;

namespace GentleCourier.Tests;

public sealed class ScheduleRuleTests
{
    private static ScheduleRule Rule(
        string? cron = null, TimeSpan? every = null, Missed missed = Missed.Once, int most = 100,
        TimeSpan jitter = default, string zone = "Europe/Lisbon") =>
        new ScheduleOptions
        {
            Cron = cron, Every = every, Missed = missed, MaxMissed = most, Jitter = jitter, TimeZone = zone,
        }.Rule;

    private static DateTimeOffset At(string time) =>
        DateTimeOffset.Parse(time, System.Globalization.CultureInfo.InvariantCulture);

    private static string[] Times(ScheduleRule rule, string from, int count) =>
        [.. rule.Following(At(from), count).Select(t => t.ToString("MM-dd HH:mm zzz"))];

    /// <summary>
    /// In Lisbon clocks go from 01:00 to 02:00 on 30 March 2031, and from 02:00 to 01:00 on 26 October.
    /// </summary>
    [Theory]
    [InlineData("30 1 * * *", "2031-03-29T00:00Z",
        new[] { "03-29 01:30 +00:00", "03-30 02:00 +01:00", "03-31 01:30 +01:00" })]
    [InlineData("*/30 1 * * *", "2031-03-30T00:00Z",
        new[] { "03-30 02:00 +01:00", "03-31 01:00 +01:00", "03-31 01:30 +01:00" })]
    [InlineData("30 1 * * *", "2031-10-25T12:00Z",
        new[] { "10-26 01:30 +01:00", "10-27 01:30 +00:00", "10-28 01:30 +00:00" })]
    [InlineData("*/30 1 * * *", "2031-10-25T12:00Z",
        new[] { "10-26 01:00 +01:00", "10-26 01:30 +01:00", "10-26 01:00 +00:00", "10-26 01:30 +00:00" })]
    [InlineData("0 * * * *", "2031-10-25T23:30Z",
        new[] { "10-26 01:00 +01:00", "10-26 01:00 +00:00", "10-26 02:00 +00:00" })]
    public void Clocks_that_are_set_leave_nothing_out_and_repeat_only_what_recurs(
        string cron, string from, string[] expected) =>
        Assert.Equal(expected, Times(Rule(cron), from, expected.Length));

    [Fact]
    public void An_interval_fires_at_whole_multiples_whatever_was_before()
    {
        Assert.Equal(["06-14 06:10 +00:00", "06-14 06:20 +00:00"],
            Times(Rule(every: TimeSpan.FromMinutes(10)), "2031-06-14T06:03Z", 2));
        Assert.Equal(["06-14 06:20 +00:00"], Times(Rule(every: TimeSpan.FromMinutes(10)), "2031-06-14T06:10Z", 1));
    }

    [Theory]
    [InlineData(Missed.Skip, 100, new[] { "06:05", "06:06" })]
    [InlineData(Missed.Once, 100, new[] { "06:04", "06:05", "06:06" })]
    [InlineData(Missed.Each, 3, new[] { "06:02", "06:03", "06:04", "06:05", "06:06" })]
    [InlineData(Missed.Each, 100, new[] { "06:00", "06:01", "06:02", "06:03", "06:04", "06:05", "06:06" })]
    public void What_was_missed_is_left_out_or_fires_late_and_what_is_in_time_always_fires(
        Missed missed, int most, string[] expected)
    {
        var rule = Rule("* * * * *", missed: missed, most: most);
        var firings = rule.At(At("2031-06-14T05:00Z").AddHours(1), At("2031-06-14T06:06:00Z"));
        Assert.Equal(expected, firings.Times.Select(t => t.UtcDateTime.ToString("HH:mm")));
        Assert.Equal((At("2031-06-14T06:07Z"), true), (firings.Next, firings.HasMissed));
    }

    [Fact]
    public void Years_of_seconds_are_not_gone_through()
    {
        var rule = Rule("* * * * * *", missed: Missed.Each, most: 3);
        var firings = rule.At(At("2001-01-01T00:00Z"), At("2031-06-14T06:06:00Z"));
        // A minute in time, with both its ends, and three that were missed before it.
        Assert.Equal(64, firings.Times.Count);
        Assert.Equal(At("2031-06-14T06:06:01Z"), firings.Next);
        var yearly = Rule("0 12 29 2 *").At(At("2004-02-29T12:00Z"), At("2031-06-14T06:06:00Z"));
        Assert.Equal([At("2028-02-29T12:00Z")], yearly.Times);
    }

    /// <summary>
    /// However often it is asked and whatever it skips, with Each every firing is there once, in order.
    /// </summary>
    [Fact]
    public void Looks_at_any_moments_together_fire_each_time_once() =>
        Gen.Select(Gen.Int[0, 3].Select(i => new[] { "*/7 * * * *", "30 1 * * *", "0 */3 * * 1-5", "15 2 29 * *" }[i]),
            Gen.Int[1, 400].Array[1, 40], Gen.Double[0, 0.999]).Sample((cron, minutes, random) =>
        {
            var rule = Rule(cron, missed: Missed.Each, most: 1000, jitter: TimeSpan.FromMinutes(5));
            var start = At("2031-03-29T00:00Z");
            var (now, next, fired) = (start, rule.After(start)!.Value, new List<DateTimeOffset>());
            foreach (var step in minutes)
            {
                now = now.AddMinutes(step);
                if (rule.Jittered(next, random) is var due && due > now) continue;
                Assert.InRange(due, next, rule.After(next)!.Value.AddTicks(-1));
                var firings = rule.At(next, now);
                fired.AddRange(firings.Times);
                next = firings.Next!.Value;
                Assert.True(next > now);
            }
            Assert.Equal(rule.Following(start, 10_000).TakeWhile(t => t < next), fired);
        });

    [Theory]
    [InlineData(null, null, "Cron or Every must be set")]
    [InlineData("* * * * *", "00:01", "only one of them")]
    [InlineData("* * *", null, "'* * *' is not a cron expression")]
    [InlineData("0 0 30 2 *", null, "'0 0 30 2 *' never fires")]
    [InlineData(null, "00:00:00.500", "whole seconds, 1 second to 1 day")]
    [InlineData(null, "1.00:00:01", "beyond that say Cron")]
    public void What_makes_no_sense_is_said(string? cron, string? every, string problem) =>
        Assert.Contains(problem, Assert.Single(
            Rule(cron, every is null ? null : TimeSpan.Parse(every)).Problems()), StringComparison.Ordinal);

    [Fact]
    public void A_rule_is_the_same_after_it_was_kept_and_one_with_a_zone_that_is_not_there_says_so()
    {
        var rule = Rule("0 23 * * 1-5", missed: Missed.Each, jitter: TimeSpan.FromSeconds(5));
        Assert.Equal(rule.ToJson(), ScheduleRule.Parse(rule.ToJson()).ToJson());
        Assert.Equal(
            """{"cron":"0 23 * * *","timeZone":"UTC","missed":"Once"}""", Rule("0 23 * * *", zone: "UTC").ToJson());
        Assert.Contains("TimeZone 'Sea/Longsand' is not known on this host",
            Assert.Single(Rule("0 23 * * *", zone: "Sea/Longsand").Problems()), StringComparison.Ordinal);
    }

    private static ScheduleRow Row(string declaration, string cron = "0 23 * * *") => new("closing", 0)
    {
        Type = "t", Template = "{}"u8.ToArray(), Rule = Rule(cron).ToJson(), DeclaredRule = Rule(cron).ToJson(),
        Declaration = declaration,
    };

    private static SeenDeclaration Seen(string declaration, double seconds) =>
        new("closing", declaration, TimeSpan.FromSeconds(seconds));

    [Fact]
    public void A_declaration_takes_over_where_it_is_new_or_the_last_one_is_nobodys_any_more()
    {
        Assert.True(Declaring.TakesOver(Row("a"), null, []));
        Assert.False(Declaring.TakesOver(Row("a"), Row("a"), []));
        Assert.True(Declaring.TakesOver(Row("b"), Row("a"), [Seen("a", 1)]));
        // The older version starts again, beside the newer one; and when that is gone for good.
        Assert.False(Declaring.TakesOver(Row("a"), Row("b"), [Seen("a", 5), Seen("b", 30)]));
        Assert.True(Declaring.TakesOver(Row("a"), Row("b"), [Seen("a", 5), Seen("b", 91)]));
        Assert.True(Declaring.TakesOver(Row("a"), Row("b"), [Seen("a", 5)]));
    }

    [Fact]
    public void A_new_declaration_ends_a_change_by_hand_keeps_a_pause_and_what_is_due_where_the_times_are_the_same()
    {
        var now = At("2031-06-14T12:00Z");
        var kept = Schedules.WithNext(Row("a") with { Changed = now, Rule = Rule("0 23 * * *").ToJson() },
            Rule("0 23 * * *"), now.AddDays(-1), 0);
        var same = Declaring.Row(Row("b"), kept, now, 0).Row;
        Assert.Equal((kept.Next, kept.Due, null, "b"), (same.Next, same.Due, same.Changed, same.Declaration));
        var other = Declaring.Row(Row("b", "0 21 * * *"), kept, now.AddDays(-1), 0).Row;
        Assert.Equal(At("2031-06-13T20:00Z"), other.Due);
        var paused = Declaring.Row(Row("b", "0 21 * * *"), Schedules.Pause(kept, now.AddDays(-1)).Row, now, 0).Row;
        Assert.Equal((now.AddDays(-1), null), (paused.Paused, paused.Due));
        Assert.Equal(At("2031-06-14T20:00Z"), Schedules.Resume(paused, now, 0).Due);
    }

    /// <summary>Whatever else an event says, in whatever form, stays as it is.</summary>
    [Theory]
    [InlineData("""{REST,"id":"a","own":"x","data":{"id":"b","time":1.0}}""",
        """{"time":"2031-06-14T06:00:00+00:00",REST,"id":"b\"","own":"x","data":{"id":"b","time":1.0}}""")]
    [InlineData("""{ "data":[1e3 , {"time":null}] , "time" : null,"id":"a",REST }""",
        """{ "data":[1e3 , {"time":null}] , "time" : "2031-06-14T06:00:00+00:00","id":"b\"",REST }""")]
    public void An_event_is_given_another_id_and_time(string json, string expected)
    {
        const string Rest = """
            "specversion":"1.0","source":"/t","type":"t"
            """;
        var before = System.Text.Encoding.UTF8.GetBytes(json.Replace("REST", Rest));
        var changed = EventJson.With(before, "b\"", At("2031-06-14T06:00Z"));
        var text = System.Text.Encoding.UTF8.GetString(changed).Replace("\\u0022", "\\\"");
        Assert.Equal(expected.Replace("REST", Rest), text);
        Assert.Equal(("b\"", At("2031-06-14T06:00Z")), (EventJson.Read(changed).Id, EventJson.Read(changed).Time));
    }
}
