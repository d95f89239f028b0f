using IronKeep.Catalogue;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Design;

namespace IronKeep.Catalogue.Sqlite;

/// <summary>For the migration tool only.</summary>
public sealed class ForTheMigrationTool : IDesignTimeDbContextFactory<KeepContext>
{
    public KeepContext CreateDbContext(string[] args) =>
        new((DbContextOptions<KeepContext>)new DbContextOptionsBuilder<KeepContext>().UseCatalogue(":memory:").Options);
}
