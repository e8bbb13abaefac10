using System.CommandLine;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier doctor</c>: whether everything is set up as it has to be.</summary>
internal static class DoctorCommand
{
    private const int SomethingIsWrong = 3;

    public static Command Create()
    {
        var command = new Command(
            "doctor",
            """
            Looks whether broker and stores can be reached and are set up as they have to be, with remedies.

            One line each: the connection, its encryption, the server, rights, tables, clocks, disk, and whether all
            that is routed is received. Exits with 3 where something is wrong.

            With --recount, what the broker has counted of its events is reckoned anew first, for where somebody has
            changed rows past the library. (Workers do so every hour, where it takes no longer than a second.)

            Examples:
              courier doctor --broker sqlite:broker.db --store sqlite:harbour.db
              courier doctor --broker postgres://fares@db.example/ferries
              courier doctor --json | jq '.[] | select(.result == "wrong")'
            """);
        var json = Plain.JsonOption();
        command.Options.Add(json);
        var recount = new Recount().AddTo(command);
        var connections = new Connections().AddTo(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var broker = connections.FindBroker(result);
            var stores = connections.FindStores(result);
            if (broker is null && stores.Count == 0) throw Connections.NotSaid("broker");
            var report = new Report(result.GetValue(json));
            if (broker is not null)
            {
                report.Begin($"broker {broker.Name}", broker.From);
                var isReached = await report.AddAllAsync(broker.Port.Services.Examination, cancel);
                if (isReached)
                    await foreach (var check in recount.DoAsync(result, broker.Port, cancel)) report.Add(check);
                if (isReached) AddFindings(report, await CourierStatus.ReadAsync(broker.Port, [], cancel));
            }
            foreach (var store in stores)
            {
                await using (store)
                {
                    report.Begin($"store {store.Name}", store.From);
                    if (await report.AddAllAsync(store.Port as IExaminable, cancel))
                        AddFindings(
                            report, await CourierStatus.ReadAsync(null, [(store.Name, store.Port)], cancel));
                }
            }
            return report.End() ? SomethingIsWrong : 0;
        });
        return command;
    }

    private static void AddFindings(Report report, CourierStatus status)
    {
        foreach (var finding in status.Findings)
        {
            report.Add(new Check(finding.Code, finding.IsWrong ? CheckResult.Wrong : CheckResult.Note,
                $"{finding.What}; next: {finding.Next}"));
        }
        if (status.Findings.Any(f => f.IsWrong)) return;
        if (status.Broker is { Queues: var queues })
            report.Add(Check.Good("queues", queues.Count == 0 ? "there are none yet"
                : $"{queues.Count}, and nothing stands still"));
        foreach (var store in status.Stores)
            report.Add(store.Outbox.Relay is { } relay ? Check.Good("outbox", $"is relayed by {relay}")
                : Check.Note("outbox", "nothing waits in it, and no relay leads"));
    }

    /// <summary>Shows what was looked at: line by line to people, all at the end to scripts.</summary>
    private sealed class Report(bool isJson)
    {
        private readonly List<(string Of, Check Check)> checks = [];
        private string of = "";

        public void Begin(string what, string from)
        {
            of = what;
            if (isJson) return;
            if (checks.Count > 0) AnsiConsole.WriteLine();
            AnsiConsole.WriteLine(Plain.Line(from == "--broker" || from == "--store" ? what : $"{what}, from {from}"));
        }

        public void Add(Check check)
        {
            checks.Add((of, check));
            if (!isJson) Plain.WriteHanging($"  {Word(check),-6}{check.Name,-20} ", check.Said);
        }

        /// <summary>Whether it can be used.</summary>
        public async Task<bool> AddAllAsync(IExaminable? examined, CancellationToken cancel)
        {
            if (examined is null) return true;
            var before = checks.Count;
            await foreach (var check in examined.ExamineAsync(cancel)) Add(check);
            // Encryption, clocks and the like leave something to be asked.
            return !checks.Skip(before).Any(c => c.Check is
                { Result: CheckResult.Wrong, Name: "file" or "connection" or "server" or "tables" });
        }

        /// <summary>Whether something is wrong.</summary>
        public bool End()
        {
            var wrong = checks.Count(c => c.Check.Result == CheckResult.Wrong);
            if (isJson)
                Plain.PrintJson(checks.Select(c => new
                {
                    c.Of, c.Check.Name, result = Word(c.Check), c.Check.Said,
                }));
            else
                AnsiConsole.WriteLine(wrong == 0 ? "\nall is well"
                    : $"\n{wrong} of {Plain.Count(checks.Count, "thing")} {(wrong == 1 ? "is" : "are")} wrong");
            return wrong > 0;
        }

        private static string Word(Check check) => check.Result switch
        {
            CheckResult.Good => "good", CheckResult.Note => "note", _ => "wrong",
        };
    }
}
