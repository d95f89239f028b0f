using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Hosting;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>The catalogue itself: moved from one database to another, and brought up from each version that there was.</summary>
public sealed class CatalogueTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("catalogue-").FullName;

    public void Dispose()
    {
        Microsoft.Data.Sqlite.SqliteConnection.ClearAllPools();
        Directory.Delete(folder, recursive: true);
    }

    private static KeepContext Open(string catalogue) =>
        new((DbContextOptions<KeepContext>)new DbContextOptionsBuilder<KeepContext>().UseCatalogue(catalogue).Options);

    [Fact]
    public async Task Rows_that_are_saved_together_get_their_numbers_in_their_order_and_are_all_saved_or_none()
    {
        await using var bench = await Bench.StartAsync();
        var now = Instant.FromUtc(2026, 11, 23, 9, 0);
        var facts = Enumerable
            .Range(0, 2500)
            .Select(i => new Fact
            {
                At = now + Duration.FromTicks(i),
                Kind = i % 3 == 0 ? FactKind.CopyGone : FactKind.AlertChanged,
                Job = i % 2 == 0 ? null : $"job {i}",
                AlertId = i % 5 == 0 ? i : null,
                Count = i,
            })
            .ToList();
        await using (var db = await bench.KeepAsync())
        {
            db.AddRange(facts);
            await db.SaveChangesAsync();
            Assert.Equal(facts.Select(f => f.Id).Order(), facts.Select(f => f.Id));
            // What is changed of some and not of others, and one that goes.
            for (var i = 0; i < 100; i++)
                (facts[i].Word, facts[i].Count) = (i % 2 == 0 ? "anew" : facts[i].Word, -i);
            db.Remove(facts[200]);
            await db.SaveChangesAsync();
        }
        facts.RemoveAt(200);
        await using (var db = await bench.KeepAsync())
        {
            var first = facts[0].Id;
            Assert.Equal(
                facts.Select(Told),
                (await db.Facts.Where(f => f.Id >= first).OrderBy(f => f.Id).ToListAsync())
                    .Where(f => f.At < now + Duration.FromTicks(2500))
                    .Select(Told)
            );
        }
        // Of a save in which one row is gone by now, or one is there already, nothing stays.
        await using (var db = await bench.KeepAsync())
        {
            var gone = facts[300].Id;
            db.AddRange(
                new Fact
                {
                    At = now,
                    Kind = FactKind.CopyMade,
                    Job = "beside",
                },
                new KeptValue { Key = "beside", Value = "1" }
            );
            (await db.Facts.SingleAsync(f => f.Id == gone)).Word = "late";
            await using (var other = await bench.KeepAsync())
                await other.Facts.Where(f => f.Id == gone).ExecuteDeleteAsync();
            await Assert.ThrowsAsync<DbUpdateConcurrencyException>(() => db.SaveChangesAsync());
        }
        await using (var db = await bench.KeepAsync())
        {
            db.AddRange(
                new TakenReport
                {
                    Id = "twice",
                    At = now,
                    RunId = 1,
                },
                new KeptValue { Key = "beside", Value = "1" }
            );
            await using (var other = await bench.KeepAsync())
            {
                other.Add(
                    new TakenReport
                    {
                        Id = "twice",
                        At = now,
                        RunId = 1,
                    }
                );
                await other.SaveChangesAsync();
            }
            Assert.True(CatalogueKinds.IsCollision(await Assert.ThrowsAsync<DbUpdateException>(() => db.SaveChangesAsync())));
        }
        await using (var db = await bench.KeepAsync())
            Assert.False(await db.Facts.AnyAsync(f => f.Job == "beside") || await db.KeptValues.AnyAsync(k => k.Key == "beside"));

        static (long, Instant, FactKind, string?, long?, string?, int) Told(Fact f) =>
            (f.Id, f.At, f.Kind, f.Job, f.AlertId, f.Word, f.Count);
    }

    [FileCatalogueFact]
    public async Task A_catalogue_goes_to_PostgreSQL_and_back_row_by_row_and_its_service_goes_on_where_it_was()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("daily at 23:00", more: "prune: after-success"));
        for (var day = 24; day < 28; day++)
            await bench.TickAsync($"2026-11-{day}T23:00:01Z");
        Directory.Move(bench.Source, bench.Source + "-away");
        Assert.Equal(Outcome.Failed, (await bench.BackUpAsync()).Outcome);
        Directory.Move(bench.Source + "-away", bench.Source);
        var runs = (await bench.GetAsync<Page<RunAnswer>>("runs")).Items;
        var log = await bench.GetAsync<RunLogAnswer>($"runs/{runs[0].Id}/log");
        // Numbers whose rows have gone are not given again: a follower that is past them would never see what they stand for.
        await using (var db = await bench.KeepAsync())
            await db.Facts.ExecuteDeleteAsync();
        var data = $"--IronKeep:DataFolder={bench.Root}/service";
        await Assert.ThrowsAsync<StartRefusedException>(() => MoveCommand.RunAsync(["move", "--to", folder + "/new.db", data], default));
        await bench.StopAsync();
        var database = PostgresServer.NewDatabase();
        try
        {
            Assert.Contains("compared row by row", await MoveCommand.RunAsync(["move", "--to", database, data], default));
            // Into one that holds something nothing is moved.
            Assert.Contains(
                "empty",
                (
                    await Assert.ThrowsAsync<MoveRefusedException>(() => MoveCommand.RunAsync(["move", "--to", database, data], default))
                ).Message
            );
            bench.Catalogue = database;
            await bench.RestartAsync();
            Assert.Equal(
                runs.Select(r => (r.Id, r.Outcome, r.Sentence)),
                (await bench.GetAsync<Page<RunAnswer>>("runs")).Items.Select(r => (r.Id, r.Outcome, r.Sentence))
            );
            Assert.Equal(log.Lines, (await bench.GetAsync<RunLogAnswer>($"runs/{runs[0].Id}/log")).Lines);
            Assert.Single(await bench.OpenAlertsAsync());
            var next = await bench.BackUpAsync();
            Assert.True(next.Id > runs[0].Id);
            // What follows from it is done, although the facts of before are gone.
            Assert.Empty(await bench.OpenAlertsAsync());
            await bench.StopAsync();
            await MoveCommand.RunAsync(["move", "--to", folder + "/back.db", data, $"--IronKeep:Catalogue={database}"], default);
            bench.Catalogue = folder + "/back.db";
            await bench.RestartAsync();
            Assert.Contains((await bench.GetAsync<Page<RunAnswer>>("runs")).Items, r => r.Id == next.Id);
            Assert.NotEmpty((await bench.GetAsync<RunLogAnswer>($"runs/{next.Id}/log")).Lines);
            Assert.Equal(Outcome.Ok, (await bench.BackUpAsync()).Outcome);
            Assert.Empty(await bench.OpenAlertsAsync());
        }
        finally
        {
            await bench.StopAsync();
            bench.Catalogue = "";
            PostgresServer.Drop(database);
        }
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Every_earlier_version_with_data_in_it_is_brought_up_and_read(bool postgres)
    {
        List<string> versions;
        await using (var db = Open(postgres ? "Host=nowhere;Database=x" : "/nowhere"))
            versions = [.. db.Database.GetMigrations()];
        Assert.NotEmpty(versions);
        foreach (var version in versions)
        {
            var catalogue = postgres ? PostgresServer.NewDatabase() : $"{folder}/{version}.db";
            await using (var db = Open(catalogue))
            {
                await db.GetService<IMigrator>().MigrateAsync(version);
                await OldRows.FillAsync(db);
            }
            await using (var db = Open(catalogue))
            {
                await db.Database.MigrateAsync();
                foreach (var entity in db.Model.GetEntityTypes())
                {
                    var rows = (
                        await (Task<List<object>>)
                            typeof(CatalogueTests)
                                .GetMethod(
                                    nameof(ReadAsync),
                                    System.Reflection.BindingFlags.NonPublic | System.Reflection.BindingFlags.Static
                                )!
                                .MakeGenericMethod(entity.ClrType)
                                .Invoke(null, [db])!
                    ).Count;
                    if (OldRows.Filled(version, entity.GetTableName()!))
                        Assert.True(rows > 0, $"{version}: nothing is left in {entity.GetTableName()}");
                }
                await OldRows.JudgeAsync(db, version);
            }
            if (postgres)
                PostgresServer.Drop(catalogue);
        }
    }

    private static async Task<List<object>> ReadAsync<T>(KeepContext db)
        where T : class => [.. (await db.Set<T>().AsNoTracking().ToListAsync()).Cast<object>()];
}
