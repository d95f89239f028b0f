using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;

namespace IronKeep.Cli.Commands;

/// <summary>Takes a machine out of work, and says what becomes of its copies.</summary>
internal static class Retiring
{
    public static Command Make()
    {
        var name = MachineCommands.Name();
        var until = new Option<string>("--copies-until")
        {
            Description = "Until which day its copies are kept, as 2028-01-31",
            Required = true,
        };
        var owner = new Option<string>("--copies-owner") { Description = "Who decides about them", Required = true };
        var decide = new Option<string>("--decide-by") { Description = "By which day that is decided, as 2027-12-01", Required = true };
        var since = new Option<string?>("--since") { Description = "Since which day it is out of work; today without it" };
        var confirm = CharterCommands.Confirm;
        return Common.Verb(
            "retire",
            "Take a machine out of work: no job is done there any more, and none of its copies expires",
            async (parsed, client, cancel) =>
            {
                var machine = parsed.GetValue(name)!;
                var path = $"definitions/machine/{Uri.EscapeDataString(machine)}";
                DefinitionAnswer? before = null;
                try
                {
                    before = await client.GetAsync<DefinitionAnswer>(path, cancel);
                }
                catch (AnswerException e) when (e.Code == ProblemCodes.NotThere)
                {
                    // One that only its jobs or its agent name is declared now.
                }
                var fields = before?.Fields.ToDictionary(f => f.Key, f => f.Value) ?? [];
                // Said again with another day for its copies, it is out of work since when it was.
                if (parsed.GetValue(since) is not null || !fields.ContainsKey("retired"))
                    fields["retired"] = [parsed.GetValue(since) ?? $"{DateTime.Now:yyyy-MM-dd}"];
                fields["copies-until"] = [parsed.GetValue(until)!];
                fields["copies-owner"] = [parsed.GetValue(owner)!];
                fields["decide-by"] = [parsed.GetValue(decide)!];
                var answer = await client.PutAsync<CharterDiffAnswer>(
                    parsed.GetValue(confirm) ? path + "?confirm=true" : path,
                    new DefinitionRequest(fields),
                    cancel,
                    before?.Tag ?? "*"
                );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    CharterCommands.Print(answer, "changed nothing: it was retired already");
                return Root.Done;
            },
            name,
            until,
            owner,
            decide,
            since,
            confirm
        );
    }
}
