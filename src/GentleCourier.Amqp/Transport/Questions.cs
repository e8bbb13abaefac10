using System.Diagnostics;

namespace GentleCourier.Amqp.Transport;

/// <summary>
/// Who waits on a link for an answer of its peer: a flow that asks for one is answered by a flow that goes as far in
/// credit (section 2.7.4). A peer need not answer: one that was silent is not asked again for a while. Used under the
/// connection's lock.
/// </summary>
internal sealed class Questions
{
    private static readonly TimeSpan Silence = TimeSpan.FromMinutes(1);

    // Who waits, and up to which delivery credit went when it was asked.
    private readonly Queue<(uint Limit, TaskCompletionSource Answer)> open = [];
    private long silentSince;

    /// <summary>Whether the peer is not asked, since it did not answer.</summary>
    public bool IsPeerSilent => silentSince != 0 && Stopwatch.GetElapsedTime(silentSince) < Silence;

    /// <summary>The answer to what is asked now; the wait for it may be given up.</summary>
    public Task Ask(uint limit)
    {
        var answer = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        open.Enqueue((limit, answer));
        return answer.Task;
    }

    /// <summary>Answers come in the order of the questions: whatever was asked before has been heard, too.</summary>
    public void Answered(uint limit)
    {
        if (!open.Any(q => q.Limit == limit)) return;
        (uint Limit, TaskCompletionSource Answer) question;
        do
        {
            question = open.Dequeue();
            question.Answer.TrySetResult();
        }
        while (question.Limit != limit);
    }

    /// <summary>No answer has come in time: nobody waits any longer.</summary>
    public void Unanswered()
    {
        silentSince = Stopwatch.GetTimestamp();
        while (open.TryDequeue(out var question)) question.Answer.TrySetResult();
    }

    /// <summary>The link is gone.</summary>
    public void Fail(AmqpException why)
    {
        while (open.TryDequeue(out var question))
        {
            question.Answer.TrySetException(why);
            // Not everybody has gone on waiting for it.
            _ = question.Answer.Task.Exception;
        }
    }
}
