using System.Reflection;

namespace GentleCourier.Hosting;

/// <summary>
/// The packages of the library know each other's insides, and work together in one version only. Packages ask for it
/// exactly; this is for where somebody has overruled that.
/// </summary>
internal static class PackageVersion
{
    /// <exception cref="CourierException">The package is of another version than the library.</exception>
    public static void Check(Assembly package)
    {
        var library = typeof(PackageVersion).Assembly;
        var (ours, theirs) = (Of(library), Of(package));
        if (ours != theirs) throw new CourierException(
            $"{package.GetName().Name} {theirs} cannot work with {library.GetName().Name} {ours}: give all packages of "
            + "the library the same version");
    }

    private static string Of(Assembly assembly) =>
        assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion.Split('+')[0]
            ?? "of an unknown version";
}
