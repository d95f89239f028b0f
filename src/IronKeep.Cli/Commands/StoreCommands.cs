using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Cli.Rescuing;
using IronKeep.Contracts;

namespace IronKeep.Cli.Commands;

internal static class StoreCommands
{
    public static Command Make() => Common.Noun("store", "Where copies lie", List(),
        Begin("check", "Re-reads every byte of a store and compares it with what was written", "checks", Depth),
        Begin("reclaim", "Frees the bytes of copies whose time in the bin is over", "reclaims"),
        KeyCommands.Make());

    private static readonly Option<string?> Depth = MakeDepth();

    private static Option<string?> MakeDepth()
    {
        var option = new Option<string?>("--depth") { Description = "presence: is everything there; content: are the packs what was written (usual); deep: every chunk besides" };
        option.AcceptOnlyFromAmong("presence", "content", "deep");
        return option;
    }

    private static string Reading(StoreAnswer s) => s.Reading is not { TotalBytes: > 0 } r ? "-" : $"{r.ReadWithin30DaysBytes * 100 / r.TotalBytes} %";

    private static Command List() => Common.Verb("list", "All stores", async (parsed, client, cancel) =>
    {
        var stores = await client.GetAsync<IReadOnlyList<StoreAnswer>>("stores", cancel);
        if (Common.AsJson(parsed)) Show.Json(stores);
        else Show.Table(["store", "folder", "state", ">used", ">free", ">copies", ">in the bin", ">unsound", ">missing", ">read in 30 days", "last check", "encryption"],
            stores.Select(s => new[]
            {
                s.Name, s.Folder, s.Reachable ? s.NearlyFull ? "NEARLY FULL" : "reachable" : "UNREACHABLE", Show.Size(s.UsedBytes), Show.Size(s.FreeBytes), $"{s.Copies}", $"{s.InBin}", $"{s.Unsound}", $"{s.Missing}", Reading(s),
                s.LastCheck is null ? "never" : $"{s.LastCheck.Outcome ?? s.LastCheck.State} {Show.When(s.LastCheck.Ended)}", s.Encryption ?? "-",
            }), "no stores yet; declare one in a charter");
        foreach (var store in stores.Where(s => !s.Reachable)) Show.Error($"{store.Name}: {store.Problem}");
        return stores.All(s => s.Reachable) ? Root.Done : Root.Findings;
    });

    private static Command Begin(string verb, string description, string path, Option<string?>? depth = null)
    {
        var name = new Argument<string>("STORE") { Description = "The store's name" };
        return Common.Verb(verb, description, async (parsed, client, cancel) =>
        {
            var run = await client.PostAsync<RunAnswer>($"stores/{Uri.EscapeDataString(parsed.GetValue(name)!)}/{path}{(depth is not null && parsed.GetValue(depth) is { } how ? $"?depth={how}" : "")}", null, cancel);
            return await Watching.FollowAsync(client, run.Id, Common.AsJson(parsed), cancel);
        }, depth is null ? [name] : [name, depth]);
    }
}
