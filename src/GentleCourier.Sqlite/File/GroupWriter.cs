using System.Diagnostics;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace GentleCourier.Sqlite;

/// <summary>
/// The one writer of a process to a file. SQLite lets one connection write at a time, and a durable commit costs the
/// same for one change as for a thousand: so whatever callers ask for while a commit is under way shares the next
/// transaction. Each piece of work succeeds or fails by itself. Thread-safe.
/// </summary>
internal sealed class GroupWriter : IDisposable
{
    private const int LargestGroup = 256;
    private static readonly TimeSpan Lingering = TimeSpan.FromMicroseconds(50);

    private readonly SqliteFile file;
    private readonly Func<SqliteConnection, IDisposable> prepare;
    private readonly Action replaced;
    private readonly Queue<Work> queue = new();
    private readonly Thread thread;
    private SqliteConnection? connection;
    private FileIdentity? opened;
    private IDisposable? statements;
    // What is still to be written when it ends does not wait for long for a file that somebody else has locked.
    private static readonly TimeSpan LongestFarewell = TimeSpan.FromSeconds(2);
    private readonly CancellationTokenSource ending = new();
    private int queued;
    private bool stopped;

    /// <param name="file">The file.</param>
    /// <param name="prepare">Prepares the statements of a new connection; work gets what it returns.</param>
    /// <param name="replaced">Called on the writer's thread when another file is found at its place.</param>
    public GroupWriter(SqliteFile file, Func<SqliteConnection, IDisposable> prepare, Action replaced)
    {
        (this.file, this.prepare, this.replaced) = (file, prepare, replaced);
        thread = new Thread(Run) { IsBackground = true, Name = "courier writer" };
        thread.Start();
    }

    /// <summary>
    /// Runs <paramref name="work"/> in a transaction, on the writer's thread; ends when it is committed.
    /// </summary>
    /// <param name="work">
    /// What to write. It gets the prepared statements, and must keep nothing that a rollback would belie.
    /// </param>
    /// <param name="cancellationToken">Work that has not begun is left undone.</param>
    /// <exception cref="CourierException">
    /// The file cannot be written; nothing of this work is in it, unless the commit itself was cut off.
    /// </exception>
    public Task<TResult> RunAsync<TStatements, TResult>(
        Func<TStatements, TResult> work, CancellationToken cancellationToken)
    {
        var item = new Work<TStatements, TResult>(work, cancellationToken);
        item.Listen();
        lock (queue)
        {
            ObjectDisposedException.ThrowIf(stopped, this);
            queue.Enqueue(item);
            queued = queue.Count;
            if (queue.Count == 1) Monitor.Pulse(queue);
        }
        return item.Task;
    }

    /// <summary>
    /// Finishes what was asked for, and closes the file. Where somebody else has that locked, what cannot be written
    /// within two seconds fails.
    /// </summary>
    public void Dispose()
    {
        lock (queue)
        {
            stopped = true;
            Monitor.Pulse(queue);
        }
        ending.CancelAfter(LongestFarewell);
        thread.Join();
        ending.Dispose();
        Close();
    }

    private void Run()
    {
        using var patience = Patience.Until(ending.Token);
        var group = new List<Work>();
        while (TakeGroup(group))
        {
            try
            {
                Write(group);
                foreach (var work in group) work.Complete();
            }
            catch (Exception e)
            {
                // A connection in doubt is not used again: the next group opens a new one.
                Close();
                var problem = file.Problem(e, "write");
                foreach (var work in group) work.Fail(problem);
            }
            group.Clear();
        }
    }

    private bool TakeGroup(List<Work> group)
    {
        // To be woken takes longer than the next work takes to come, while there is much to do.
        for (var began = Stopwatch.GetTimestamp(); Volatile.Read(ref queued) == 0 && Stopwatch.GetElapsedTime(
            began) < Lingering;) Thread.SpinWait(20);
        lock (queue)
        {
            while (queue.Count == 0 && !stopped) Monitor.Wait(queue);
            while (group.Count < LargestGroup && queue.TryDequeue(out var work)) group.Add(work);
            queued = queue.Count;
            return group.Count > 0;
        }
    }

    private void Write(List<Work> group)
    {
        if (file.Identity is var now && now != opened)
        {
            if (opened is not null) replaced();
            opened = now;
            if (connection is not null) throw file.Replaced();
        }
        if (connection is null)
        {
            connection = file.Open();
            statements = prepare(connection);
        }
        var handle = connection.Handle!;
        SqliteFile.Execute(connection, "BEGIN IMMEDIATE");
        foreach (var work in group)
        {
            // Alone in its transaction, work that fails takes nobody with it.
            if (group.Count == 1)
            {
                work.Execute(statements!);
                break;
            }
            SqliteFile.Execute(connection, "SAVEPOINT work");
            try
            {
                work.Execute(statements!);
            }
            catch (Exception e) when (raw.sqlite3_get_autocommit(handle) == 0)
            {
                SqliteFile.Execute(connection, "ROLLBACK TO work");
                work.Fail(file.Problem(e, "write"));
            }
            SqliteFile.Execute(connection, "RELEASE work");
        }
        FaultPoint.Pass(FaultPoint.WrittenNotCommitted);
        SqliteFile.Execute(connection, "COMMIT");
        FaultPoint.Pass(FaultPoint.CommittedNotConfirmed);
    }

    private void Close()
    {
        try
        {
            statements?.Dispose();
            connection?.Dispose();
        }
        catch (SqliteException)
        {
            // It is let go because something is wrong with it already; the writer must live on.
        }
        (connection, statements) = (null, null);
    }

    private abstract class Work
    {
        public abstract void Execute(object statements);

        public abstract void Complete();

        public abstract void Fail(Exception e);
    }

    private sealed class Work<TStatements, TResult>(
        Func<TStatements, TResult> work, CancellationToken cancellationToken) : Work
    {
        private readonly TaskCompletionSource<TResult> completion = new(
            TaskCreationOptions.RunContinuationsAsynchronously);
        private TResult result = default!;
        private CancellationTokenRegistration registration;
        private bool isBegun, isLeft;

        public Task<TResult> Task => completion.Task;

        /// <summary>Until it begins, it can be left undone, however long the file is waited for.</summary>
        public void Listen() => registration = cancellationToken.UnsafeRegister(
            static work => ((Work<TStatements, TResult>)work!).Leave(), this);

        public override void Execute(object statements)
        {
            lock (completion)
            {
                if (isLeft) return;
                isBegun = true;
            }
            result = work((TStatements)statements);
        }

        public override void Complete()
        {
            registration.Unregister();
            completion.TrySetResult(result);
        }

        public override void Fail(Exception e)
        {
            registration.Unregister();
            completion.TrySetException(e);
        }

        private void Leave()
        {
            lock (completion)
            {
                if (isBegun) return;
                isLeft = true;
            }
            completion.TrySetCanceled(cancellationToken);
        }
    }
}
