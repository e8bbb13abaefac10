namespace GentleCourier.Watching;

/// <summary>
/// Student's t, approximated as in M. Abramowitz and I. A. Stegun, "Handbook of Mathematical Functions", 26.7.5.
/// </summary>
internal static class Student
{
    // Of the normal distribution, one-sided: between two of them lie nine of ten.
    private const double Normal = 1.6448536;

    /// <summary>
    /// What lies between minus and plus this many standard deviations is right nine times in ten; see
    /// <see cref="DrainForecast.Confidence"/>.
    /// </summary>
    /// <param name="freedom">Degrees of freedom, 1 or more.</param>
    public static double Quantile(int freedom)
    {
        const double z = Normal;
        var (z3, z5, z7) = (Math.Pow(z, 3), Math.Pow(z, 5), Math.Pow(z, 7));
        var f = (double)freedom;
        return z + ((z3 + z) / (4 * f)) + (((5 * z5) + (16 * z3) + (3 * z)) / (96 * f * f))
            + (((3 * z7) + (19 * z5) + (17 * z3) - (15 * z)) / (384 * Math.Pow(f, 3)));
    }
}
