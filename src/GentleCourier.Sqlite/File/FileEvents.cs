using System.Runtime.InteropServices;

namespace GentleCourier.Sqlite;

/// <summary>
/// Tells when a file is written to, through Linux's inotify(7). The watch is for one event at a time: armed only when
/// somebody is about to wait, it costs nothing while writes come thick and fast. For one thread;
/// <see cref="Interrupt"/> may be called from any.
/// </summary>
internal sealed partial class FileEvents : IDisposable
{
    private const uint Modified = 0x2, OneShot = 0x80000000;
    private const int NonBlocking = 0x800, CloseOnExec = 0x80000;
    private const short Readable = 1;

    // A user has 128 of them, for all of its processes, and whatever else watches files needs some: the rest is looked
    // at again and again instead. To share one would cost a thread's turn each time, in all that waits for a commit.
    private const int Most = 64;

    private static int open;

    private readonly int events = Interlocked.Increment(ref open) <= Most
        ? inotify_init1(NonBlocking | CloseOnExec) : -1;
    private readonly int interrupts = eventfd(0, NonBlocking | CloseOnExec);
    private bool armed;

    /// <summary>Whether no write can have gone by unnoticed since the last wait.</summary>
    public bool IsArmed => armed;

    /// <summary>
    /// Asks for the next write to the file; false where the system does not tell (no such file, or out of watches).
    /// </summary>
    public bool Arm(string path)
    {
        if (!armed) armed = events >= 0 && inotify_add_watch(events, path, Modified | OneShot) >= 0;
        return armed;
    }

    /// <summary>Waits for the write that was asked for, an interruption, or the limit; true for the write.</summary>
    public unsafe bool Wait(TimeSpan limit)
    {
        var descriptors = stackalloc PollDescriptor[2];
        descriptors[0] = new PollDescriptor { Descriptor = interrupts, Events = Readable };
        descriptors[1] = new PollDescriptor { Descriptor = events, Events = Readable };
        // Finer than a millisecond, which is long for the end of a commit.
        var timeout = new TimeSpec { Seconds = limit.Ticks / TimeSpan.TicksPerSecond,
            Nanoseconds = limit.Ticks % TimeSpan.TicksPerSecond * 100 };
        if (ppoll(descriptors, 2, &timeout, 0) <= 0) return false;

        var buffer = stackalloc byte[4096];
        if (descriptors[0].Returned != 0) _ = read(interrupts, buffer, 8);
        if (descriptors[1].Returned == 0) return false;
        _ = read(events, buffer, 4096);
        armed = false;
        return true;
    }

    /// <summary>Ends the current or the next wait.</summary>
    public unsafe void Interrupt()
    {
        var one = 1UL;
        _ = write(interrupts, (byte*)&one, 8);
    }

    public void Dispose()
    {
        Interlocked.Decrement(ref open);
        if (events >= 0) _ = close(events);
        if (interrupts >= 0) _ = close(interrupts);
    }

    [StructLayout(LayoutKind.Sequential)]
    private struct PollDescriptor
    {
        public int Descriptor;
        public short Events;
        public short Returned;
    }

    [StructLayout(LayoutKind.Sequential)]
    private struct TimeSpec
    {
        public long Seconds;
        public long Nanoseconds;
    }

    [LibraryImport("libc")]
    private static partial int inotify_init1(int flags);

    [LibraryImport("libc", StringMarshalling = StringMarshalling.Utf8)]
    private static partial int inotify_add_watch(int descriptor, string path, uint mask);

    [LibraryImport("libc")]
    private static partial int eventfd(uint initial, int flags);

    [LibraryImport("libc")]
    private static unsafe partial int ppoll(PollDescriptor* descriptors, nuint count, TimeSpec* timeout, nint signals);

    [LibraryImport("libc")]
    private static unsafe partial nint read(int descriptor, byte* buffer, nuint count);

    [LibraryImport("libc")]
    private static unsafe partial nint write(int descriptor, byte* buffer, nuint count);

    [LibraryImport("libc")]
    private static partial int close(int descriptor);
}
