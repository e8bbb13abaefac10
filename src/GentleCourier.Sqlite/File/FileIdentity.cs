using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace GentleCourier.Sqlite;

/// <summary>
/// Which file is at a path: one that was deleted or replaced lives on for whoever has it open, and what they write into
/// it nobody ever sees.
/// </summary>
/// <param name="Device">Where it lies.</param>
/// <param name="Node">Its number there.</param>
internal readonly partial record struct FileIdentity(ulong Device, ulong Node)
{
    /// <summary>That of the file at a path; null where there is none.</summary>
    public static FileIdentity? Of(string path)
    {
        // Device and number come first, on every processor that .NET runs on.
        var status = default(Status);
        return GetStatus(path, ref status) == 0 ? new(status[0], status[1]) : null;
    }

    [InlineArray(32)]
    private struct Status
    {
        private ulong first;
    }

    [LibraryImport("libc", EntryPoint = "stat", StringMarshalling = StringMarshalling.Utf8)]
    private static partial int GetStatus(string path, ref Status status);
}
