using System.Reflection;
using System.Text.RegularExpressions;
using IronKeep.Catalogue;
using Mono.Cecil;
using Mono.Cecil.Cil;
using NetArchTest.Rules;

namespace IronKeep.Service.Tests;

/// <summary>Dependencies point one way, between projects and between the folders of the service: see docs/architecture.md.</summary>
public sealed class ArrowTests
{
    /// <summary>What each project may know beside the standard library, and nothing else.</summary>
    [Theory]
    [InlineData("IronKeep.Core", "NodaTime")]
    [InlineData("IronKeep.Blake3")]
    [InlineData(
        "IronKeep.Stores",
        "IronKeep.Core",
        "IronKeep.Blake3",
        "NodaTime",
        "ZstdSharp",
        "Renci.SshNet",
        "Konscious.Security.Cryptography.Argon2",
        "Microsoft.Extensions.Logging.Abstractions"
    )]
    [InlineData("IronKeep.Runs", "IronKeep.Core", "IronKeep.Stores", "IronKeep.Yaml", "NodaTime", "ZstdSharp")]
    [InlineData("IronKeep.Following", "IronKeep.Core", "IronKeep.Stores", "NodaTime", "ZstdSharp")]
    [InlineData("IronKeep.Contracts", "IronKeep.Core")]
    [InlineData("IronKeep.Yaml", "IronKeep.Core", "NodaTime", "YamlDotNet")]
    [InlineData(
        "IronKeep.Catalogue",
        "IronKeep.Core",
        "NodaTime",
        "Microsoft.EntityFrameworkCore",
        "Microsoft.Data.Sqlite",
        "SQLitePCLRaw",
        "Npgsql"
    )]
    [InlineData("IronKeep.Catalogue.Sqlite", "IronKeep.Catalogue", "IronKeep.Core", "NodaTime", "Microsoft.EntityFrameworkCore")]
    [InlineData(
        "IronKeep.Catalogue.PostgreSql",
        "IronKeep.Catalogue",
        "IronKeep.Core",
        "NodaTime",
        "Microsoft.EntityFrameworkCore",
        "Npgsql"
    )]
    [InlineData(
        "ironkeep",
        "IronKeep.Contracts",
        "IronKeep.Core",
        "IronKeep.Yaml",
        "IronKeep.Stores",
        "NodaTime",
        "Spectre.Console",
        "System.CommandLine"
    )]
    [InlineData(
        "ironkeep-agent",
        "IronKeep.Contracts",
        "IronKeep.Core",
        "IronKeep.Runs",
        "IronKeep.Following",
        "IronKeep.Stores",
        "IronKeep.Yaml",
        "NodaTime",
        "System.CommandLine"
    )]
    public void Knows_only_what_it_may(string assembly, params string[] may)
    {
        var known = AssemblyDefinition
            .ReadAssembly(PathOf(assembly))
            .MainModule.AssemblyReferences.Select(r => r.Name)
            .Where(n => !n.StartsWith("System.", StringComparison.Ordinal) || n.StartsWith("System.CommandLine", StringComparison.Ordinal))
            .Where(n => n is not ("System" or "netstandard" or "mscorlib" or "Microsoft.Win32.Primitives"));
        None(known.Where(n => !Array.Exists(may, m => n == m || n.StartsWith(m + ".", StringComparison.Ordinal))));
    }

    [Fact]
    public void Core_reads_no_clock_and_no_file()
    {
        // The instant "as of" is always a parameter.
        var result = Types
            .InAssembly(Assembly.Load("IronKeep.Core"))
            .Should()
            .NotHaveDependencyOnAny("System.TimeProvider", "NodaTime.SystemClock", "System.DateTime", "System.IO", "Microsoft.Extensions")
            .GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Fact]
    public void Folders_of_the_service_know_only_those_below_them()
    {
        var order = Order();
        var arrows = Arrows(PathOf("ironkeepd"), "IronKeep.Service.");
        Assert.True(arrows.Count > 50);
        None(arrows.Keys.SelectMany(a => new[] { a.From, a.To }).Distinct().Where(f => !order.Contains(f)));
        None(
            arrows
                .Where(a => order.IndexOf(a.Key.To) > order.IndexOf(a.Key.From))
                .Select(a => $"{a.Key.From} -> {a.Key.To}: {string.Join(", ", a.Value.Take(5))}")
        );
    }

    private static void None(IEnumerable<string> found) => Assert.True(!found.Any(), string.Join('\n', found));

    [Fact]
    public void Sources_of_rules_name_sections_that_are_there()
    {
        var titles = Regex
            .Matches(
                File.ReadAllText(Path.Combine(Root(), "docs/semantics.md")),
                "^## (?<number>[0-9]+)\\. (?<title>.+)$",
                RegexOptions.Multiline
            )
            .ToDictionary(m => m.Groups["number"].Value, m => m.Groups["title"].Value.Trim());
        var found = Directory
            .EnumerateFiles(Path.Combine(Root(), "src"), "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal))
            .SelectMany(f =>
                Regex
                    .Matches(
                        // A comment's lines are one text.
                        Regex.Replace(File.ReadAllText(f), "\\n\\s*/// ", " "),
                        "semantics\\.md,\\s+(///\\s+)?sections? (?<first>[0-9]+)(?<more>(, [0-9]+)* and [0-9]+)?( \\((?<title>[^)]+)\\))?"
                    )
                    .Select(m => (File: Path.GetFileName(f), m))
            )
            .ToList();
        Assert.True(found.Count > 20);
        None(
            found
                .Where(x =>
                    !titles.TryGetValue(x.m.Groups["first"].Value, out var title)
                    || (x.m.Groups["more"].Length == 0 && x.m.Groups["title"].Value != title)
                )
                .Select(x => $"{x.File}: {x.m.Value}")
        );
    }

    /// <summary>The folders from below to above, as docs/architecture.md lists them.</summary>
    private static List<string> Order()
    {
        var text = File.ReadAllText(Path.Combine(Root(), "docs/architecture.md"));
        var list = Regex
            .Match(text, "From below to above: (?<list>.+?)\\.$", RegexOptions.Multiline | RegexOptions.Singleline)
            .Groups["list"]
            .Value;
        return [.. Regex.Matches(list, "`(?<name>\\w+)/`").Select(m => m.Groups["name"].Value)];
    }

    private static string Root()
    {
        var at = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(at, "IronKeep.slnx")))
            at = Path.GetDirectoryName(at)!;
        return at;
    }

    private static string PathOf(string assembly)
    {
        var beside = Path.Combine(AppContext.BaseDirectory, assembly + ".dll");
        if (File.Exists(beside))
            return beside;
        var configuration = new DirectoryInfo(AppContext.BaseDirectory).Parent!.Name;
        return Path.Combine(
            Root(),
            "src",
            assembly switch
            {
                "ironkeep" => "IronKeep.Cli",
                "ironkeep-agent" => "IronKeep.Agent",
                _ => assembly,
            },
            "bin",
            configuration,
            "net10.0",
            assembly + ".dll"
        );
    }

    /// <summary>Who knows whom, by what the compiled types name: fields, signatures, bodies, attributes.</summary>
    private static Dictionary<(string From, string To), HashSet<string>> Arrows(string path, string prefix)
    {
        var arrows = new Dictionary<(string, string), HashSet<string>>();
        foreach (var type in AssemblyDefinition.ReadAssembly(path).MainModule.GetTypes())
        {
            if (FolderOf(type) is not { } from)
                continue;
            foreach (var known in Known(type))
                if (FolderOf(known) is { } to && to != from)
                    (arrows.TryGetValue((from, to), out var set) ? set : arrows[(from, to)] = []).Add($"{Outer(type).Name} {known.Name}");
        }
        return arrows;

        string? FolderOf(TypeReference type)
        {
            var outer = Outer(type);
            return outer.Namespace.StartsWith(prefix, StringComparison.Ordinal) ? outer.Namespace[prefix.Length..].Split('.')[0] : null;
        }
    }

    private static TypeReference Outer(TypeReference type)
    {
        while (type.DeclaringType is not null)
            type = type.DeclaringType;
        return type;
    }

    private static IEnumerable<TypeReference> Known(TypeDefinition type)
    {
        var all = new List<TypeReference?> { type.BaseType };
        all.AddRange(type.Interfaces.Select(i => i.InterfaceType));
        all.AddRange(type.Fields.Select(f => f.FieldType));
        foreach (var method in type.Methods)
        {
            all.Add(method.ReturnType);
            all.AddRange(method.Parameters.Select(p => p.ParameterType));
            if (!method.HasBody)
                continue;
            all.AddRange(method.Body.Variables.Select(v => v.VariableType));
            foreach (Instruction at in method.Body.Instructions)
            {
                if (at.Operand is TypeReference named)
                    all.Add(named);
                if (at.Operand is not MemberReference member || member is TypeReference)
                    continue;
                all.Add(member.DeclaringType);
                if (member is MethodReference called)
                {
                    all.Add(called.ReturnType);
                    all.AddRange(called.Parameters.Select(p => p.ParameterType));
                    if (called is GenericInstanceMethod generic)
                        all.AddRange(generic.GenericArguments);
                }
                else if (member is FieldReference field)
                    all.Add(field.FieldType);
            }
        }
        return all.OfType<TypeReference>().SelectMany(Parts);
    }

    private static IEnumerable<TypeReference> Parts(TypeReference type)
    {
        if (type is GenericInstanceType generic)
            foreach (var part in generic.GenericArguments.SelectMany(Parts))
                yield return part;
        yield return type.GetElementType();
    }
}
