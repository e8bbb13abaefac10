using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Transport;

/// <summary>
/// What is to be sent. Frames are written into one buffer while the other one is on its way, so that whatever has come
/// together meanwhile leaves in one write. All but <see cref="RunAsync"/> is called under the connection's lock.
/// </summary>
/// <param name="stream">Where it goes.</param>
/// <param name="gate">The connection's lock.</param>
/// <param name="hasRoom">Called under the lock when there is room again after there was none.</param>
internal sealed class Outgoing(Stream stream, Lock gate, Action hasRoom) : IDisposable
{
    /// <summary>So much may lie here before those who send messages wait.</summary>
    private const int Full = 256 * 1024;

    // What a burst has made larger is given back.
    private const int LargestKept = 4 * Full;

    private readonly SemaphoreSlim ready = new(0, 1);
    private WireBuffer filling = new(Full), sending = new(Full);
    private bool isSignalled, isComplete, wasFull, isOver;

    /// <summary>Where frames are written.</summary>
    public WireBuffer Buffer => filling;

    /// <summary>Whether anything has been written since this was set to false.</summary>
    public bool HasWritten { get; set; }

    /// <summary>Whether messages have to wait, until it is said that there is room; control frames do not.</summary>
    public bool MustWait()
    {
        wasFull |= filling.Length >= Full;
        return filling.Length >= Full;
    }

    /// <summary>What has been written may leave.</summary>
    public void Flush()
    {
        if (isSignalled || isOver || (filling.Length == 0 && !isComplete)) return;
        (isSignalled, HasWritten) = (true, true);
        ready.Release();
    }

    /// <summary>Nothing more comes: once all has left, <see cref="RunAsync"/> returns.</summary>
    public void Complete()
    {
        isComplete = true;
        Flush();
    }

    public async Task RunAsync()
    {
        while (true)
        {
            await ready.WaitAsync().ConfigureAwait(false);
            lock (gate)
            {
                isSignalled = false;
                (filling, sending) = (sending, filling);
                if (sending.Length == 0 && isComplete) return;
                if (wasFull)
                {
                    wasFull = false;
                    hasRoom();
                }
                if (isComplete) Flush();
            }
            await stream.WriteAsync(sending.Memory).ConfigureAwait(false);
            await stream.FlushAsync().ConfigureAwait(false);
            if (sending.Length <= LargestKept)
            {
                sending.CutTo(0);
                continue;
            }
            sending.Dispose();
            sending = new(Full);
        }
    }

    /// <summary>Gives the memory back; only once <see cref="RunAsync"/> has returned.</summary>
    public void Dispose()
    {
        isOver = true;
        filling.Dispose();
        sending.Dispose();
        ready.Dispose();
    }
}
