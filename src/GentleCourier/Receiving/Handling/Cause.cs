using System.Data.Common;
using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>A receiver, or what it needs, cannot be built: none of any event's fault.</summary>
internal sealed class NotBuiltException(Type receiver, Exception inner)
    : Exception($"{receiver.Name} cannot be built: {Words.InLine(inner)}", inner);

/// <summary>
/// A receiver has returned with something undone that it had begun: whoever wrote it has forgotten to say so, and it
/// would be the same with every event.
/// </summary>
internal sealed class LeftUndoneException(string problem) : Exception(problem);

/// <summary>
/// Tells the two kinds of failure apart: one of the event or of its receiver, and one of what is around them, such as a
/// store that is away. Thread-safe.
/// </summary>
internal static class Cause
{
    /// <summary>
    /// Whether something around the receiver has failed: the store or the broker is away, full, or refuses for the
    /// moment; another transaction holds what this one waits for; or the receiver cannot be built, or leaves undone
    /// what it does.
    /// </summary>
    /// <param name="e">What the attempt has thrown.</param>
    /// <param name="store">Knows what its database's own exceptions mean.</param>
    public static bool IsAround(Exception e, IInboxPort? store)
    {
        for (var inner = e; inner is not null; inner = inner.InnerException)
        {
            switch (inner)
            {
                case NotBuiltException or LeftUndoneException or CourierException { IsTransient: true }:
                    return true;
                case DbException database when store is not null:
                    if (store.IsTransient(database)) return true;
                    break;
            }
        }
        return false;
    }

    /// <summary>
    /// Whether its transaction was rolled back for the sake of others (SQLSTATE class 40): that says nothing of the
    /// next one.
    /// </summary>
    public static bool IsConflict(Exception e)
    {
        for (var inner = e; inner is not null; inner = inner.InnerException)
            if (inner is DbException { SqlState: ['4', '0', ..] }) return true;
        return false;
    }

    /// <summary>
    /// How it failed: the same for failures that are likely to have the same cause. Messages are left out, they tell of
    /// the event; what a database calls the failure is not.
    /// </summary>
    public static string KindOf(Exception e)
    {
        var kind = e.GetType().Name;
        if (e is DbException { SqlState: { } state }) kind += $" {state}";
        return e.InnerException is { } inner ? $"{kind} < {KindOf(inner)}" : kind;
    }
}
