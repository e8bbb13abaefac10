using GentleCourier.Postgres.Tests;
using GentleCourier.Sqlite.Tests;

namespace GentleCourier.EntityFrameworkCore.Tests;

public sealed class PostgresContextTests : ContextScenarios<Databases>;

public sealed class SqliteContextTests : ContextScenarios<Folder>;
