using System.Transactions;

namespace GentleCourier;

/// <summary>Transactions that are open around a call without its saying so (<c>TransactionScope</c>).</summary>
internal static class Ambient
{
    /// <summary>What begins a transaction of its own would stay when the one around it rolls back.</summary>
    /// <exception cref="CourierException">One is open.</exception>
    public static void Refuse(string call)
    {
        if (Transaction.Current is null) return;
        throw new CourierException(
            $"{call} has a transaction of its own, and is called within a TransactionScope, with which it would not "
            + "roll back: leave the scope before, or put the call into new TransactionScope("
            + "TransactionScopeOption.Suppress, TransactionScopeAsyncFlowOption.Enabled) where that is meant");
    }
}
