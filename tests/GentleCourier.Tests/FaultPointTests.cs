using System.Reflection;

namespace GentleCourier.Tests;

public sealed class FaultPointTests
{
    [Fact]
    public void Every_place_is_in_the_list_from_which_tests_arm_them() => Assert.Equal(
        typeof(FaultPoint).GetFields(BindingFlags.Public | BindingFlags.Static).Where(f => f.IsLiteral)
            .Select(f => (string)f.GetRawConstantValue()!).Order(StringComparer.Ordinal),
        FaultPoint.All.Order(StringComparer.Ordinal));
}
