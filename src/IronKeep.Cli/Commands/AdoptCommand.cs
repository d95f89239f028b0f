using System.CommandLine;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Cli.Trying;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

internal static class AdoptCommand
{
    internal sealed record Answer(string Yaml, IReadOnlyList<NotAdopted> NotAdopted);

    public static Command Make()
    {
        var crontab = new Option<string>("--crontab")
        {
            Description = "The crontab's file, as 'crontab -l' prints it; - for standard input",
            Required = true,
        };
        var machine = new Option<string>("--machine")
        {
            Description = "The machine whose crontab it is; else this one's name",
            DefaultValueFactory = _ => Environment.MachineName.ToLowerInvariant().Split('.')[0],
        };
        var zone = TryCommands.ZoneOption;
        var withUser = new Option<bool>("--with-user") { Description = "A user's name stands before each command, as in /etc/crontab" };
        var command = new Command(
            "adopt",
            "Writes charter entries for the lines of a crontab, as watched jobs; runs nothing and needs no service"
        )
        {
            crontab,
            machine,
            zone,
            withUser,
        };
        command.SetAction(parsed =>
        {
            var name = parsed.GetValue(machine)!;
            if (!CharterReader.IsName(name))
                throw new AnswerException(Root.NotUnderstood, $"'{name}' cannot be the name of a machine; give another with --machine");
            var adopted = CrontabAdoption.Read(
                TryCommands.Read(parsed.GetValue(crontab)!),
                name,
                TryCommands.Zone(parsed.GetValue(zone)!),
                parsed.GetValue(withUser)
            );
            var yaml = CharterWriter.Write(adopted.Charter);
            if (Common.AsJson(parsed))
                Show.Json(new Answer(yaml, adopted.NotAdopted));
            else
            {
                Console.Out.Write(yaml);
                Show.Error(
                    $"{Counted.Of(adopted.Charter.Jobs.Count, "watched job")}; add them to your charter and look at it with 'ironkeep "
                        + $"charter diff'"
                );
                foreach (var line in adopted.NotAdopted)
                    Show.Error($"Line {line.Line}: {line.Why}\n    {line.Text}");
            }
            return adopted.NotAdopted.Length > 0 ? Root.Findings : Root.Done;
        });
        return command;
    }
}
