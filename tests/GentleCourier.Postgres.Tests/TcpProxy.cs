using System.Net;
using System.Net.Sockets;
using System.Runtime.CompilerServices;

namespace GentleCourier.Postgres.Tests;

/// <summary>Stands between a client and the server, and misbehaves as networks do.</summary>
public sealed class TcpProxy : IDisposable
{
    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly int target;
    private readonly List<Socket> open = [];
    private volatile TaskCompletionSource thawed = Thawed();
    private volatile int delay;
    private volatile byte[]? fatal;

    public TcpProxy(int target)
    {
        this.target = target;
        listener.Start();
        _ = AcceptAsync();
    }

    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    /// <summary>How often it has cut what carried the fatal words.</summary>
    public int FatalCuts { get; private set; }

    /// <summary>Cuts every connection.</summary>
    public void Cut()
    {
        lock (open)
        {
            foreach (var socket in open) socket.Dispose();
            open.Clear();
        }
    }

    /// <summary>From now on no packet passes; connections stay open.</summary>
    public void Freeze() => thawed = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>What has been kept back passes.</summary>
    public void Thaw() => thawed.TrySetResult();

    /// <summary>From now on each packet takes this long.</summary>
    public void Slow(TimeSpan time) => delay = (int)time.TotalMilliseconds;

    /// <summary>
    /// The next packet to the server with these words is delivered, and its connection cut before the answer.
    /// </summary>
    public void CutAfter(string words) => fatal = System.Text.Encoding.ASCII.GetBytes(words);

    public void Dispose()
    {
        listener.Stop();
        Thaw();
        Cut();
    }

    private async Task AcceptAsync()
    {
        while (true)
        {
            Socket client;
            try
            {
                client = await listener.AcceptSocketAsync();
            }
            catch (Exception e) when (e is SocketException or ObjectDisposedException)
            {
                return;
            }
            var server = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
            client.NoDelay = true;
            lock (open) open.AddRange([client, server]);
            _ = Task.Run(async () =>
            {
                try
                {
                    await server.ConnectAsync(IPAddress.Loopback, target);
                    var doomed = new StrongBox<bool>();
                    await Task.WhenAny(PumpAsync(client, server, doomed, toServer: true),
                        PumpAsync(server, client, doomed, toServer: false));
                }
                catch (Exception e) when (e is SocketException or ObjectDisposedException)
                {
                    // It was cut.
                }
                client.Dispose();
                server.Dispose();
            });
        }
    }

    private async Task PumpAsync(Socket from, Socket to, StrongBox<bool> doomed, bool toServer)
    {
        var buffer = new byte[65536];
        while (await from.ReceiveAsync(buffer) is > 0 and var count)
        {
            await thawed.Task;
            if (delay > 0) await Task.Delay(delay);
            if (!toServer && Volatile.Read(ref doomed.Value))
            {
                // The server has done it, and answers to nobody.
                FatalCuts++;
                return;
            }
            if (toServer && fatal is { } words && buffer.AsSpan(0, count).IndexOf(words) >= 0)
            {
                fatal = null;
                Volatile.Write(ref doomed.Value, true);
            }
            await to.SendAsync(buffer.AsMemory(0, count));
        }
    }

    private static TaskCompletionSource Thawed()
    {
        var done = new TaskCompletionSource();
        done.SetResult();
        return done;
    }
}
