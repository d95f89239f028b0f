using System.CommandLine;
using System.Text;

namespace IronKeep.Cli.Shell;

/// <summary>Manual pages, made from the commands themselves: one for the client, and one for each of its first words.</summary>
internal static class ManPages
{
    public static Command Make(RootCommand root)
    {
        var folder = new Argument<DirectoryInfo>("FOLDER") { Description = "Where the pages are written" };
        var command = new Command("man-pages", "Writes the manual pages of all commands into a folder") { folder };
        command.Hidden = true;
        command.SetAction(parsed =>
        {
            var into = Directory.CreateDirectory(parsed.GetValue(folder)!.FullName).FullName;
            File.WriteAllText(Path.Combine(into, "ironkeep.1"), Page(root, "ironkeep", root.Subcommands.Where(c => !c.Hidden)));
            foreach (var noun in root.Subcommands.Where(c => !c.Hidden))
                File.WriteAllText(Path.Combine(into, $"ironkeep-{noun.Name}.1"), Page(noun, $"ironkeep {noun.Name}", []));
            return Root.Done;
        });
        return command;
    }

    private static string Page(Command command, string name, IEnumerable<Command> others)
    {
        var page = new StringBuilder();
        page.Append($".TH \"{name.Replace(' ', '-').ToUpperInvariant()}\" 1 \"\" \"Iron Keep {Version.Text}\" \"Iron Keep\"\n");
        page.Append($".SH NAME\n{Text(name.Replace(' ', '-'))} \\- {Text(command.Description ?? "")}\n");
        page.Append(".SH SYNOPSIS\n");
        Synopsis(page, command, name);
        Details(page, command, name, deep: others.FirstOrDefault() is null);
        if (others.Any())
        {
            page.Append(".SH COMMANDS\n");
            foreach (var other in others)
                page.Append($".TP\n\\fB{Text(other.Name)}\\fR\n{Text(other.Description ?? "")}; see ironkeep-{other.Name}(1).\n");
            page.Append(
                ".SH EXIT STATUS\n0 done, 1 done with findings, 2 not understood, 3 refused, 4 failed or unreachable. "
                    + "A command that begins a run ends as the run ends.\n"
            );
            page.Append(
                ".SH ENVIRONMENT\n.TP\n\\fBIRONKEEP_URL\\fR\nThe service's address.\n.TP\n\\fBIRONKEEP_TOKEN\\fR\nA personal token.\n"
            );
        }
        else
            page.Append(".SH SEE ALSO\nironkeep(1)\n");
        return page.ToString();
    }

    private static void Synopsis(StringBuilder page, Command command, string name)
    {
        if (command.Subcommands.Count == 0 || command.Action is not null)
            page.Append($".B {Text(name)}\n{string.Join(' ', command.Arguments.Select(a => $"\\fI{Text(a.Name)}\\fR"))} [options]\n.br\n");
        if (command is RootCommand)
            page.Append($".B {Text(name)}\n\\fICOMMAND\\fR ...\n");
        else
            foreach (var verb in command.Subcommands.Where(c => !c.Hidden))
                Synopsis(page, verb, $"{name} {verb.Name}");
    }

    private static void Details(StringBuilder page, Command command, string name, bool deep)
    {
        if (command.Arguments.Count + command.Options.Count > 0)
        {
            page.Append(
                deep && command.Parents.FirstOrDefault() is Command and not RootCommand ? $".SS \"{Text(name)}\"\n" : ".SH OPTIONS\n"
            );
            if (deep)
                page.Append($"{Text(command.Description ?? "")}.\n");
            foreach (var argument in command.Arguments)
                page.Append($".TP\n\\fI{Text(argument.Name)}\\fR\n{Text(argument.Description ?? "")}\n");
            foreach (var option in command.Options.Where(o => !o.Hidden))
                page.Append(
                    $".TP\n\\fB{Text(string.Join(", ", option.Aliases.Prepend(option.Name)))}\\fR\n{Text(option.Description ?? "")}\n"
                );
        }
        if (!deep)
            return;
        foreach (var verb in command.Subcommands.Where(c => !c.Hidden))
        {
            if (verb.Arguments.Count + verb.Options.Count == 0)
                page.Append($".SS \"{Text($"{name} {verb.Name}")}\"\n{Text(verb.Description ?? "")}.\n");
            Details(page, verb, $"{name} {verb.Name}", deep);
        }
    }

    /// <summary>Text as the page's language wants it: backslashes and hyphens escaped, no line that begins with a control.</summary>
    private static string Text(string text)
    {
        var escaped = text.Replace("\\", "\\e", StringComparison.Ordinal).Replace("-", "\\-", StringComparison.Ordinal);
        return escaped.StartsWith('.') || escaped.StartsWith('\'') ? "\\&" + escaped : escaped;
    }
}
