using GentleCourier.Watching;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary>A planned outage, and what it does: as text, for scripts, and as a picture.</summary>
internal sealed class OutagePlan(Rates rates, TimeSpan begins, TimeSpan outage, TimeSpan? limit)
{
    private readonly OutageForecast forecast = new(
        rates.Arrivals, rates.Worker, Math.Max(1, rates.Workers), rates.Waiting, begins.TotalSeconds,
        outage.TotalSeconds);

    public void Print()
    {
        AnsiConsole.WriteLine($"{rates.Of} at {Clock(0, withDay: true)}: {Plain.Number(rates.Waiting)} wait, "
            + rates.Capacity);
        Plain.WriteHanging("  ", rates.From);
        AnsiConsole.WriteLine(outage == TimeSpan.Zero ? "no outage is planned"
            : $"from {Clock(begins.TotalSeconds)} to {Clock(forecast.Ends)} nobody handles anything "
                + $"({Plain.Age(outage)})");
        AnsiConsole.WriteLine();
        if (rates.Workers == 0)
        {
            AnsiConsole.WriteLine("no worker receives: say with how many --workers it goes on");
            return;
        }
        var table = Plain.Table(("", false), ("about", true), ("nine times in ten", false));
        var waiting = forecast.WaitingAt(forecast.Ends);
        table.AddRow("waiting at its end", About(waiting.About),
            $"{About(waiting.Low)} to {About(waiting.High!.Value)}");
        if (forecast.Gone() is { } gone)
        {
            table.AddRow("all handled at", Clock(gone.About), $"{Clock(gone.Low)} to "
                + (gone.High is { } late ? Clock(late) : "nobody knows when"));
            table.AddRow("  after its end", Plain.Age(After(gone.About)), $"{Plain.Age(After(gone.Low))} to "
                + (gone.High is { } high ? Plain.Age(After(high)) : "nobody knows when"));
        }
        else
        {
            table.AddRow("all handled at", "never", forecast.CatchesUp ? "these workers hardly handle more than comes"
                : "more comes than these workers handle");
        }
        if (forecast.CatchesUp)
        {
            var wait = forecast.LongestWait();
            table.AddRow("longest wait", Plain.Age(TimeSpan.FromSeconds(wait.About)),
                wait.High is { } most ? $"hardly longer than {Plain.Age(TimeSpan.FromSeconds(most))}" : "nobody knows");
        }
        AnsiConsole.Write(table);
        PrintWorkers();
    }

    private void PrintWorkers()
    {
        if (limit is not { } wanted) return;
        AnsiConsole.WriteLine();
        if (forecast.WorkersFor(wanted.TotalSeconds) is { } enough)
            AnsiConsole.WriteLine($"with {Rates.Count(enough)} hardly any event waits longer than "
                + $"{Plain.Age(wanted)}, if they are as fast together as each is now");
        else Plain.WriteHanging("", wanted <= outage
            ? $"no number of workers keeps the wait under {Plain.Age(wanted)}: what comes when the outage begins waits "
                + $"{Plain.Age(outage)} until its end"
            : $"no number of workers up to 10,000 keeps the wait under {Plain.Age(wanted)}");
    }

    public object ForScripts()
    {
        var waiting = forecast.WaitingAt(forecast.Ends);
        var wait = forecast.CatchesUp ? forecast.LongestWait() : default;
        return new
        {
            of = rates.Of, rates.Now, rates.Waiting, rates.Workers, arrivalsPerSecond = rates.Arrivals.PerSecond,
            handledPerSecondByWorker = rates.Worker.PerSecond, rates.From, confidence = DrainForecast.Confidence,
            outage = new { inSeconds = begins.TotalSeconds, seconds = outage.TotalSeconds },
            forecast.CatchesUp,
            waitingAtItsEnd = new { waiting.About, waiting.Low, waiting.High },
            goneInSeconds = forecast.Gone() is { } gone ? new { gone.About, gone.Low, gone.High } : null,
            longestWaitSeconds = forecast.CatchesUp ? new { wait.About, wait.High } : null,
            workersForLongestWait = limit is { } wanted ? forecast.WorkersFor(wanted.TotalSeconds) : null,
        };
    }

    public void Draw(string file, TimeZoneInfo zone) =>
        new OutagePicture(rates, forecast, begins, outage).Save(file, zone);

    private TimeSpan After(double time) => TimeSpan.FromSeconds(Math.Max(0, time - forecast.Ends));

    private string Clock(double seconds, bool withDay = false) => rates.Clock(seconds, withDay);

    private static string About(double number) => Plain.Number((long)Math.Round(number));
}
