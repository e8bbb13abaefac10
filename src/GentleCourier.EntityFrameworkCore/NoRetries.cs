using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Storage;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>
/// A context that is set up to retry by itself refuses to work in a transaction that it could not begin anew. In the
/// transaction of a delivery it need not: the delivery as a whole is tried again.
/// </summary>
internal sealed class NoRetries : ExecutionStrategy
{
    private NoRetries(DbContext context) : base(context, maxRetryCount: 0, maxRetryDelay: TimeSpan.Zero)
    {
    }

    /// <summary>From here on, in the method that calls this and in all that it calls.</summary>
    public static void From(DbContext context) => Current ??= new NoRetries(context);

    protected override bool ShouldRetryOn(Exception exception) => false;
}
