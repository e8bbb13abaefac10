using System.Diagnostics;
using System.Text.Json;
using GentleCourier.Servers;

[assembly: AssemblyFixture(typeof(GentleCourier.Amqp.Tests.Judge))]

namespace GentleCourier.Amqp.Tests;

/// <summary>Another implementation of AMQP 1.0, as a peer and as a client.</summary>
public sealed class Judge : IDisposable
{
    private static readonly Lazy<Process> Peer = new(() => Start("peer"));
    private static readonly Lazy<string> Port = new(() => Peer.Value.StandardOutput.ReadLine()!.Trim());

    /// <summary>The peer's address; it is started by the first that asks.</summary>
    public static string Address => $"amqp://127.0.0.1:{Port.Value}";

    /// <summary>Of each of its addresses, how many messages wait and how many are in hand.</summary>
    public static IReadOnlyDictionary<string, int[]> Count()
    {
        lock (Peer)
        {
            Peer.Value.StandardInput.WriteLine("count");
            return JsonSerializer.Deserialize<Dictionary<string, int[]>>(Peer.Value.StandardOutput.ReadLine()!)!;
        }
    }

    /// <summary>Has its client send messages, and returns their outcomes.</summary>
    public static string[] Send(string address, params string[] messages)
    {
        using var client = Start("send", $"127.0.0.1:{Port.Value}", address);
        client.StandardInput.Write(string.Join('\n', messages));
        client.StandardInput.Close();
        return Output(client);
    }

    /// <summary>Has its client receive messages, and returns them as JSON.</summary>
    public static string[] Receive(string address, int count)
    {
        using var client = Start("receive", $"127.0.0.1:{Port.Value}", address, $"{count}");
        return Output(client);
    }

    public void Dispose()
    {
        if (!Peer.IsValueCreated) return;
        Peer.Value.StandardInput.Close();
        if (!Peer.Value.WaitForExit(TimeSpan.FromSeconds(10))) Peer.Value.Kill();
        Peer.Value.Dispose();
    }

    private static string[] Output(Process client)
    {
        var said = client.StandardOutput.ReadToEndAsync();
        if (!client.WaitForExit(TimeSpan.FromSeconds(60))) client.Kill();
        return said.Result.Split('\n', StringSplitOptions.RemoveEmptyEntries);
    }

    private static Process Start(params string[] arguments) => Script.Open("judge.py", arguments);
}
