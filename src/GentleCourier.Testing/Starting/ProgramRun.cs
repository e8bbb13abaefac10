using System.Diagnostics;
using System.Reflection;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Testing;

/// <summary>
/// Runs a program's own entry point in this process, and has a say in its services before its host is built: hosts tell
/// of both by the framework's diagnostics.
/// </summary>
internal sealed class ProgramRun : IObserver<DiagnosticListener>, IObserver<KeyValuePair<string, object?>>
{
    private static readonly AsyncLocal<ProgramRun?> Running = new();

    private readonly Action<IServiceCollection> join;
    private readonly TaskCompletionSource<IHost> built = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly TaskCompletionSource ended = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly List<IDisposable> listening = [];

    private ProgramRun(Action<IServiceCollection> join) => this.join = join;

    /// <summary>The host that it has built. Fails where the program ends without one.</summary>
    public Task<IHost> Built => built.Task;

    /// <summary>Ends with the program, and fails where that did.</summary>
    public Task Ended => ended.Task;

    public static ProgramRun Start(Assembly program, string[] args, Action<IServiceCollection> join)
    {
        var entry = program.EntryPoint ?? throw new TrialException(
            $"{program.GetName().Name} is no program: it has no entry point; name a type of the program's own "
            + "assembly");
        var run = new ProgramRun(join);
        // A program blocks its thread for as long as it runs.
        new Thread(() => run.Run(entry, args)) { IsBackground = true, Name = $"trial of {program.GetName().Name}" }
            .Start();
        return run;
    }

    private void Run(MethodInfo entry, string[] args)
    {
        Running.Value = this;
        listening.Add(DiagnosticListener.AllListeners.Subscribe(this));
        try
        {
            entry.Invoke(null, entry.GetParameters().Length == 0 ? null : [args]);
            built.TrySetException(new TrialException("the program has ended without building a host"));
            ended.TrySetResult();
        }
        catch (Exception e)
        {
            var why = (e as TargetInvocationException)?.InnerException ?? e;
            built.TrySetException(why);
            ended.TrySetException(why);
            // Nobody may be left to ask.
            _ = ended.Task.Exception;
        }
        finally
        {
            lock (listening) listening.ForEach(l => l.Dispose());
        }
    }

    public void OnNext(DiagnosticListener value)
    {
        if (Running.Value != this || value.Name != "Microsoft.Extensions.Hosting") return;
        lock (listening) listening.Add(value.Subscribe(this));
    }

    public void OnNext(KeyValuePair<string, object?> value)
    {
        if (Running.Value != this) return;
        if (value is { Key: "HostBuilding", Value: IHostBuilder builder })
            builder.ConfigureServices((_, services) => join(services));
        if (value is { Key: "HostBuilt", Value: IHost host }) built.TrySetResult(host);
    }

    public void OnCompleted()
    {
    }

    public void OnError(Exception error)
    {
    }
}
