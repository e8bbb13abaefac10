using System.Reflection;
using System.Reflection.Emit;
using GentleCourier.Hosting;

namespace GentleCourier.Tests;

/// <summary>An engine of another version than the library, as somebody may mix them.</summary>
public sealed class PackageVersionTests
{
    private static AssemblyBuilder Package(string version) => AssemblyBuilder.DefineDynamicAssembly(
        new AssemblyName("GentleCourier.Sqlite"), AssemblyBuilderAccess.Run,
        [new CustomAttributeBuilder(
            typeof(AssemblyInformationalVersionAttribute).GetConstructor([typeof(string)])!, [version])]);

    [Fact]
    public void An_engine_of_another_version_is_refused_before_it_is_made_with_what_to_do()
    {
        var builder = new CourierBuilder(new Microsoft.Extensions.DependencyInjection.ServiceCollection());
        var refused = Assert.Throws<CourierException>(() => builder.AddEngine(
            Package("9.8.7+abc"), () => throw new TypeLoadException("it cannot be made")));
        Assert.StartsWith("GentleCourier.Sqlite 9.8.7 cannot work with GentleCourier ", refused.Message,
            StringComparison.Ordinal);
        Assert.EndsWith("give all packages of the library the same version", refused.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void The_same_version_of_another_build_is_not_refused()
    {
        var ours = typeof(CourierBuilder).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()!;
        PackageVersion.Check(Package(ours.InformationalVersion.Split('+')[0] + "+other"));
    }
}
