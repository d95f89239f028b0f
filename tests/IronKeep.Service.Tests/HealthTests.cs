using System.Net;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Service.Basics;
using IronKeep.Service.Health;
using IronKeep.Service.Hosting;
using IronKeep.Service.Upkeep;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

public sealed class HealthTests
{
    [Fact]
    public async Task The_service_tells_live_from_ready_and_names_what_is_wrong_with_itself()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        using var nobody = bench.Anonymous();
        Assert.Equal("ok", await nobody.GetStringAsync("/health/live"));
        Assert.Equal("ready", await nobody.GetStringAsync("/health/ready"));
        var well = await bench.GetAsync<SelfCheckAnswer>("service");
        Assert.Equal(
            [
                "catalogue",
                "clock loop",
                "dispatch",
                "teller",
                "reports",
                "facts",
                "followed logs",
                "folders of dated files",
                "clock",
                "store cellar",
            ],
            well.Findings.Select(f => f.What).Where(w => w != "services")
        );
        Assert.All(well.Findings, f => Assert.Equal("well", f.State.Word()));
        // A store that is away is an alert from the start, not from its next run.
        Directory.Move(bench.StoreFolder, bench.StoreFolder + "-away");
        await bench.RestartAsync();
        await bench.Services.GetRequiredService<StoreSentry>().LookAsync(default);
        Assert.Equal("failed", (await bench.GetAsync<SelfCheckAnswer>("service")).Findings[^1].State.Word());
        var alert = Assert.Single(await bench.OpenAlertsAsync());
        Assert.Equal(("store cellar", "failed"), (alert.Subject.Words, alert.Class.Word()));
        Directory.Move(bench.StoreFolder + "-away", bench.StoreFolder);
        await bench.BackUpAsync();
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    [Fact]
    public async Task A_loop_that_stands_still_is_not_ready()
    {
        await using var bench = await Bench.StartAsync(ticking: true);
        using var nobody = bench.Anonymous();
        // The loop really goes round by itself; then time passes without it.
        while (!(await bench.GetAsync<SelfCheckAnswer>("service")).Findings[1].Sentence.StartsWith("came round", StringComparison.Ordinal))
            await Task.Delay(10);
        Assert.Equal(HttpStatusCode.OK, (await nobody.GetAsync("/health/ready")).StatusCode);
        using (await bench.HoldLoopAsync())
        {
            bench.Clock.Now = bench.Clock.Now.AddMinutes(3);
            using var stands = await nobody.GetAsync("/health/ready");
            Assert.Equal((HttpStatusCode.ServiceUnavailable, "not ready"), (stands.StatusCode, await stands.Content.ReadAsStringAsync()));
            Assert.Contains("stands still", (await bench.GetAsync<SelfCheckAnswer>("service")).Findings[1].Sentence);
            Assert.Equal("ok", await nobody.GetStringAsync("/health/live"));
        }
    }

    [FileCatalogueFact]
    public async Task A_damaged_catalogue_stops_the_start_by_name_and_starting_anew_brings_the_copies_back()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter());
        await bench.BackUpAsync();
        var charter = (await bench.GetAsync<CharterAnswer>("charter")).Yaml;
        var file = bench.Root + "/service/catalogue.db";
        var spoilt = bench.Root + "/spoilt";
        Directory.CreateDirectory(spoilt);
        SelfCheck.RefuseDamaged(spoilt + "/catalogue.db");
        await using (var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync())
            await db.Database.ExecuteSqlRawAsync("PRAGMA wal_checkpoint(TRUNCATE)");
        using (var source = new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.ReadWrite))
        {
            var bytes = new byte[source.Length];
            source.ReadExactly(bytes);
            new Random(1).NextBytes(bytes.AsSpan(bytes.Length / 3));
            File.WriteAllBytes(spoilt + "/catalogue.db", bytes);
        }
        var refused = Assert.Throws<StartRefusedException>(() => SelfCheck.RefuseDamaged(spoilt + "/catalogue.db"));
        Assert.Contains(spoilt + "/catalogue.db is damaged", refused.Message);
        Assert.Contains("reads the copies back", refused.Message);
        Assert.Contains(
            "damaged",
            Assert
                .Throws<StartRefusedException>(() =>
                {
                    File.WriteAllText(spoilt + "/catalogue.db", "this is no database at all, but it is long enough to look like one");
                    SelfCheck.RefuseDamaged(spoilt + "/catalogue.db");
                })
                .Message
        );
        await bench.RestartAsync(bench.LoseCatalogue);
        await bench.ApplyAsync(charter);
        Assert.Single(await bench.CopiesAsync());
    }

    [Theory]
    [InlineData("{ \"IronKeep\": { \"RunsAtOnec\": 3 } }", "did you mean 'RunsAtOnce'")]
    [InlineData("{ \"IronKeep\": { \"RunsAtOnce\": 0 } }", "IronKeep:RunsAtOnce is 0")]
    [InlineData("{ \"IronKeep\": { \"RunsAtOnce\": \"many\" } }", "RunsAtOnce")]
    [InlineData("{ \"IronKeep\": { \"Silence\": \"15\" } }", "has no unit")]
    [InlineData("{ \"IronKeep\": { \"DataFolder\": \"here\" } }", "give an absolute path")]
    [InlineData("{ \"IronKeep\": ", "Mend the file")]
    public void A_mistake_in_a_settings_file_is_named(string json, string says)
    {
        var file = Path.GetTempFileName();
        try
        {
            File.WriteAllText(file, json);
            Assert.Contains(
                says,
                Assert
                    .Throws<StartRefusedException>(() =>
                        SettingsFiles.Read(SettingsFiles.Builder(["--config", file]).Configuration.GetSection("IronKeep"))
                    )
                    .Message
            );
            File.WriteAllText(file, "{ \"IronKeep\": { \"RunsAtOnce\": 5, \"DataFolder\": \"/from/file\" } }");
            var settings = SettingsFiles.Read(
                SettingsFiles.Builder(["--config", file, "--IronKeep:DataFolder=/from/arguments"]).Configuration.GetSection("IronKeep")
            );
            Assert.Equal((5, "/from/arguments"), (settings.RunsAtOnce, settings.DataFolder));
        }
        finally
        {
            File.Delete(file);
        }
        Assert.Contains("does not exist", Assert.Throws<StartRefusedException>(() => SettingsFiles.Builder(["--config", file])).Message);
    }

    [Fact]
    public void Every_setting_is_documented()
    {
        var text = File.ReadAllText(Path.Combine(AppContext.BaseDirectory, "../../../../../docs/operating.md"));
        foreach (var name in ServiceSettings.Names)
            Assert.Contains($"`IronKeep:{name}`", text);
    }
}
