using IronKeep.Catalogue;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Design;

namespace IronKeep.Catalogue.PostgreSql;

/// <summary>For the migration tool only.</summary>
public sealed class ForTheMigrationTool : IDesignTimeDbContextFactory<KeepContext>
{
    public KeepContext CreateDbContext(string[] args) =>
        new(
            (DbContextOptions<KeepContext>)
                new DbContextOptionsBuilder<KeepContext>().UseCatalogue("Host=localhost;Database=ironkeep").Options
        );
}
