using System.CommandLine;
using System.Globalization;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

/// <summary>Who is told of what, and whose turn it is.</summary>
internal static class TellCommands
{
    public static Command Make()
    {
        var tell = new Command("tell", "Who is told of what, and whose turn it is");
        tell.Subcommands.Add(Who());
        tell.Subcommands.Add(Rotas());
        return tell;
    }

    private static Command Who()
    {
        var at = new Option<string?>("--at")
        {
            Description = "A time, such as '2027-03-28 02:00' in this terminal's zone; now where it is left out",
        };
        var job = new Option<string?>("--job") { Description = "What happens to this job" };
        var store = new Option<string?>("--store") { Description = "What happens to this store" };
        var machine = new Option<string?>("--machine") { Description = "What happens to this machine" };
        var who = Common.Verb("who", "Who would be told of what, when, and why, before anything happens", async (parsed, client, cancel) =>
        {
            (string Name, string? Value)[] asked =
            [
                ("at", parsed.GetValue(at) is { } text ? Until.Read(text).UtcDateTime.ToString("O", CultureInfo.InvariantCulture) : null),
                ("job", parsed.GetValue(job)),
                ("store", parsed.GetValue(store)),
                ("machine", parsed.GetValue(machine)),
            ];
            var query = string.Join('&', asked.Where(a => a.Value is not null).Select(a => $"{a.Name}={Uri.EscapeDataString(a.Value!)}"));
            var answer = await client.GetAsync<WhoAnswer>($"telling/who?{query}", cancel);
            if (Common.AsJson(parsed))
                Show.Json(answer);
            else
                Print(answer);
            return answer.Cases.Any(c => c.To.Count == 0) ? Root.Findings : Root.Done;
        });
        foreach (var option in new Option[] { at, job, store, machine })
            who.Options.Add(option);
        return who;
    }

    private static void Print(WhoAnswer answer)
    {
        Show.Line($"At {Show.When(answer.At)}, for {answer.Of}:");
        if (answer.Maintenance is { } window)
            Show.Line($"  {window}: nothing is told before it is over.");
        foreach (var one in answer.Cases)
        {
            Show.Line("");
            Show.Line($"{string.Join(", ", one.Classes.Select(c => c.Word()))}  ({Severities.Words(one.Severity)})");
            foreach (var to in one.To)
                Print(to, "  ");
            if (one.To.Count == 0)
                Show.Line("  NOBODY is told: name somebody with 'tells' in the charter");
            foreach (var then in one.Then)
            {
                Show.Line($"  unless somebody has seen it by {Show.When(then.At)}, route {then.Route} tells as well:");
                foreach (var to in then.To)
                    Print(to, "    ");
            }
        }
        if (answer.RunEnds.Count == 0)
            return;
        Show.Line("");
        Show.Line("every run that ends well");
        foreach (var to in answer.RunEnds)
            Print(to, "  ");
    }

    private static void Print(WhoRecipient to, string indent)
    {
        Show.Line(
            $"{indent}{to.Person ?? $"channel {to.Channel}"}  through {to.Channel} to {to.To}, "
                + (to.GatheredWith is { } with ? $"{Show.When(to.ToldAt)} with {with}" : "at once")
        );
        Show.Line($"{indent}  because {to.Why}");
    }

    private static Command Rotas()
    {
        var weeks = new Option<int>("--weeks") { Description = "For how many weeks, 1 to 53", DefaultValueFactory = _ => 5 };
        var rotas = Common.Verb(
            "rotas",
            "Whose turn it is in the coming weeks, and when a route would reach nobody",
            async (parsed, client, cancel) =>
            {
                var answer = await client.GetAsync<RotasAnswer>($"telling/rotas?weeks={parsed.GetValue(weeks)}", cancel);
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Print(answer);
                return answer.Holes.Count > 0 ? Root.Findings : Root.Done;
            }
        );
        rotas.Options.Add(weeks);
        return rotas;
    }

    private static void Print(RotasAnswer answer)
    {
        if (answer.Rotas.Count == 0)
            Show.Line("No rota is declared; one says which people take turns: 'rotas' in the charter.");
        foreach (var rota in answer.Rotas)
        {
            Show.Line($"{rota.Name}  changes {rota.Changes} ({rota.Zone})" + (rota.StandIn is { } standIn ? $", {standIn} stands in" : ""));
            foreach (var turn in rota.Turns)
                Show.Line(
                    $"  {(turn.Until is { } until ? $"until {Show.When(until)}" : "from then on"), -26}  {turn.Person}"
                        + (turn.WhyNot is { } why ? $", who {why} as it begins" : "")
                );
        }
        foreach (var hole in answer.Holes)
            Show.Line(
                $"HOLE  route {hole.Route} finds nobody within their hours from {Show.When(hole.From)} to {Show.When(hole.Until)}; whoever "
                    + "is on duty is told all the same"
            );
    }
}
