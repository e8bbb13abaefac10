using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Testing;

/// <summary>Hosts that a trial makes itself.</summary>
internal static class Hosts
{
    /// <summary>One that reads nothing of the machine's settings.</summary>
    public static HostApplicationBuilder NewBuilder(string name)
    {
        var builder = Host.CreateEmptyApplicationBuilder(new HostApplicationBuilderSettings { ApplicationName = name });
        builder.Logging.SetMinimumLevel(LogLevel.Information);
        return builder;
    }

    /// <summary>What a program does between building its host and running it.</summary>
    public static async Task PrepareAsync(
        IHost host, Func<IServiceProvider, CancellationToken, Task>? prepare, CancellationToken cancellationToken)
    {
        if (prepare is null) return;
        var scope = host.Services.CreateAsyncScope();
        await using (scope.ConfigureAwait(false))
            await prepare(scope.ServiceProvider, cancellationToken).ConfigureAwait(false);
    }
}
