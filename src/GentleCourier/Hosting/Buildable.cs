using System.Diagnostics.CodeAnalysis;
using System.Reflection;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Hosting;

/// <summary>
/// Finds out what a service lacks to be built, by asking the container what it knows and without building anything.
/// What is made by the application's own code is taken on trust.
/// </summary>
internal sealed class Buildable(IServiceCollection services, IServiceProviderIsService known)
{
    private readonly HashSet<Type> seen = [];

    /// <summary>What is missing, and who needs it; null where nothing is.</summary>
    public string? MissingOf(Type service)
    {
        // It is enough to look at each once, which also ends circles: the container speaks of those by itself.
        if (!seen.Add(service)) return null;
        var descriptor = services.LastOrDefault(d => d.ServiceType == service && !d.IsKeyedService);
        if (descriptor?.ImplementationType is not { } type || type.IsGenericTypeDefinition) return null;
        string? missing = null;
        foreach (var constructor in ConstructorsOf(descriptor))
        {
            missing = MissingOf(constructor, type);
            if (missing is null) return null;
        }
        return missing;
    }

    private string? MissingOf(ConstructorInfo constructor, Type type)
    {
        foreach (var parameter in constructor.GetParameters())
        {
            if (parameter.HasDefaultValue) continue;
            var key = parameter.GetCustomAttribute<FromKeyedServicesAttribute>();
            if (parameter.GetCustomAttribute<ServiceKeyAttribute>() is not null) continue;
            if (!IsKnown(parameter.ParameterType, key))
                return $"{type.Name} needs {NameOf(parameter.ParameterType)}, and no such service is registered";
            if (key is null && MissingOf(parameter.ParameterType) is { } further)
                return $"{type.Name} needs {NameOf(parameter.ParameterType)}; {further}";
        }
        return null;
    }

    private bool IsKnown(Type service, FromKeyedServicesAttribute? key) => key is null ? known.IsService(service)
        : known is not IServiceProviderIsKeyedService keyed || keyed.IsKeyedService(service, key.Key);

    [UnconditionalSuppressMessage("Trimming", "IL2072",
        Justification = "A descriptor's implementation keeps its public constructors.")]
    private static ConstructorInfo[] ConstructorsOf(ServiceDescriptor descriptor) =>
        descriptor.ImplementationType!.GetConstructors();

    private static string NameOf(Type type) => !type.IsGenericType ? type.Name
        : $"{type.Name.Split('`')[0]}<{string.Join(", ", type.GetGenericArguments().Select(NameOf))}>";
}
