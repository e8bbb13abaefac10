using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres.Tests;

public sealed class AddressTests
{
    private static PostgresAddress Parse(string text) => EngineAddress.TryParse(text, out var address)
        ? PostgresAddress.Parse(address) : throw new FormatException(text);

    [Fact]
    public void All_parts_are_read_and_none_that_is_secret_is_shown()
    {
        var address = Parse(
            "postgres://har%40bour:p%2Fw@rd@db.example:6432/ferry%20line?schema=fares&maximum pool size=7");
        Assert.Equal(
            ("har@bour", "p/w@rd", "db.example", 6432, "ferry line", 7, "fares"),
            (address.Settings.Username, address.Settings.Password, address.Settings.Host, address.Settings.Port,
                address.Settings.Database, address.Settings.MaxPoolSize, address.SchemaName));
        Assert.Equal("postgres://har%40bour@db.example:6432/ferry%20line?schema=fares", address.DisplayName);
        Assert.True(address.HoldsPassword);

        // What is shown is an address again.
        Assert.Equal(address.DisplayName, Parse(address.DisplayName).DisplayName);
        Assert.False(Parse(address.DisplayName).HoldsPassword);
        Assert.True(Parse("postgres://db/ferry?password=x").HoldsPassword);
        Assert.Equal(
            "postgres:///ferry?host=/run/postgresql", Parse("postgres:///ferry?host=/run/postgresql").DisplayName);
        Assert.Equal(("::1", 5433),
            (Parse("postgres://[::1]:5433/ferry").Settings.Host, Parse("postgres://[::1]:5433/ferry").Settings.Port));
    }

    [Theory]
    [InlineData("postgres://db.example/ferry", SslMode.VerifyFull)]
    [InlineData("postgres://10.1.2.3/ferry", SslMode.VerifyFull)]
    [InlineData("postgres://localhost.db.example/ferry", SslMode.VerifyFull)]
    [InlineData("postgres:///ferry?host=127.0.0.1,db.example", SslMode.VerifyFull)]
    [InlineData("postgres://db.example/ferry?sslmode=verify-ca", SslMode.VerifyCA)]
    [InlineData("postgres://db.example/ferry?ssl mode=Disable", SslMode.Disable)]
    [InlineData("postgres://127.0.0.1/ferry", SslMode.Prefer)]
    [InlineData("postgres://localhost/ferry", SslMode.Prefer)]
    [InlineData("postgres://[::1]/ferry", SslMode.Prefer)]
    [InlineData("postgres:///ferry?host=/run/postgresql", SslMode.Prefer)]
    public void Every_host_but_this_one_must_prove_who_it_is_unless_the_address_says_otherwise(
        string address, SslMode expected) =>
        Assert.Equal(expected, Parse(address).Settings.SslMode);

    [Theory]
    [InlineData("postgres:Host=db", "must begin with //")]
    [InlineData("postgres:///ferry", "names no host")]
    [InlineData("postgres://db", "names no database")]
    [InlineData("postgres://db/", "names no database")]
    [InlineData("postgres://db:port/ferry", "port is not a number")]
    [InlineData("postgres://db:0/ferry", "port is not a number")]
    [InlineData("postgres://db/ferry?pasword=hush", "no setting 'pasword'")]
    [InlineData("postgres://db/ferry?timeout=hush", "no setting 'timeout'")]
    [InlineData("postgres://db/ferry?sslmode", "'sslmode' has no value")]
    [InlineData("postgres://db/ferry?schema=x;DROP TABLE", "not a schema's name")]
    [InlineData("postgres://db/ferry?schema=Courier", "not a schema's name")]
    [InlineData("postgres://db/ferry?two-phase=1", "two-phase must be true or false")]
    [InlineData("postgres://db/ferry?schema=", "not a schema's name")]
    public void What_cannot_be_an_address_is_named_without_what_may_be_secret(string address, string expected)
    {
        var error = Assert.Throws<CourierException>(() => Parse(address));
        Assert.Contains(expected, error.Message, StringComparison.Ordinal);
        Assert.DoesNotContain("hush", error.ToString(), StringComparison.Ordinal);
    }
}
