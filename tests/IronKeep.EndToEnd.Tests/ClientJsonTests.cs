using System.Reflection;
using System.Runtime.Loader;
using System.Text.Json;
using IronKeep.Contracts;
using Mono.Cecil;
using Mono.Cecil.Cil;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// The client makes nothing while it runs that it needs for JSON: a type that is not in its lists would fail in a person's hands. So the
/// lists are compared with what the client's code asks for and prints.
/// </summary>
public sealed class ClientJsonTests
{
    private static readonly string[] Asks = ["GetAsync", "PostAsync", "PutAsync", "DeleteAsync", "ListAsync", "Json", "Of"];

    [Fact]
    public void Every_type_that_the_client_reads_or_prints_is_in_its_lists()
    {
        var path = Programs.PathOf("ironkeep");
        AssemblyLoadContext.Default.Resolving += (context, name) =>
            Path.Combine(Path.GetDirectoryName(path)!, name.Name + ".dll") is var beside && File.Exists(beside)
                ? context.LoadFromAssemblyPath(beside)
                : null;
        var client = AssemblyLoadContext.Default.LoadFromAssemblyPath(path);
        var options = (JsonSerializerOptions)
            client
                .GetType("IronKeep.Cli.Client.ClientJson")!
                .GetProperty("Options", BindingFlags.Static | BindingFlags.Public)!
                .GetValue(null)!;
        using var module = ModuleDefinition.ReadModule(path);
        var asked = module
            .GetTypes()
            .SelectMany(t => t.Methods)
            .Where(m => m.HasBody)
            .SelectMany(m => m.Body.Instructions)
            .Where(i => i.OpCode.Code is Code.Call or Code.Callvirt)
            .Select(i => i.Operand)
            .OfType<GenericInstanceMethod>()
            .Where(m =>
                Asks.Contains(m.Name)
                && m.DeclaringType.FullName
                    is "IronKeep.Cli.Client.KeepClient"
                        or "IronKeep.Cli.Printing.Show"
                        or "IronKeep.Cli.Client.ClientJson"
            )
            .Where(m => !m.GenericArguments[0].ContainsGenericParameter)
            .SelectMany(m =>
                m.Name == "ListAsync"
                    ?
                    [
                        $"IronKeep.Contracts.Page`1[[{Name(m.GenericArguments[0])}]]",
                        $"System.Collections.Generic.List`1[[{Name(m.GenericArguments[0])}]]",
                    ]
                    : new[] { Name(m.GenericArguments[0]) }
            )
            .Distinct()
            .ToList();
        Assert.True(asked.Count > 40, $"only {asked.Count} were found");
        var contracts = typeof(ContractJson).Assembly;
        var missing = asked.Where(name =>
        {
            var type = Find(name, [client, contracts, .. AssemblyLoadContext.Default.Assemblies]) ?? throw new TypeLoadException(name);
            return options.TypeInfoResolver!.GetTypeInfo(type, options) is null;
        });
        Assert.Empty(missing);
    }

    [Fact]
    public void Every_body_of_the_api_is_in_the_contracts_list_and_every_enum_is_a_word()
    {
        var bodies = typeof(ContractJson).Assembly.GetExportedTypes().Where(t => !t.IsAbstract && !t.IsGenericTypeDefinition && !t.IsEnum);
        Assert.All(bodies.Where(t => t != typeof(ContractContext) && t.GetProperties().Length > 0), t =>
            Assert.True(ContractContext.Default.GetTypeInfo(t) is not null, t.Name)
        );
        var enums = new HashSet<Type>();
        foreach (var body in bodies)
            Collect(body, [], enums);
        Assert.True(enums.Count >= 20);
        foreach (var value in enums.SelectMany(e => Enum.GetValues(e).Cast<object>()))
            Assert.Matches("^\"[a-z-]+\"$", JsonSerializer.Serialize(value, value.GetType(), ContractJson.Options));
    }

    private static void Collect(Type type, HashSet<Type> seen, HashSet<Type> enums)
    {
        if (type.IsEnum)
            enums.Add(type);
        if (!seen.Add(type))
            return;
        foreach (var inner in type.GetGenericArguments())
            Collect(inner, seen, enums);
        if (type.Namespace?.StartsWith("IronKeep", StringComparison.Ordinal) == true)
            foreach (var property in type.GetProperties())
                Collect(property.PropertyType, seen, enums);
    }

    /// <summary>The name by which reflection finds a type.</summary>
    private static string Name(TypeReference type) =>
        type is GenericInstanceType generic
            ? $"{Name(generic.ElementType)}[{string.Join(',', generic.GenericArguments.Select(a => $"[{Name(a)}]"))}]"
            : type.FullName.Replace('/', '+');

    private static Type? Find(string name, IEnumerable<Assembly> assemblies)
    {
        var at = name.IndexOf('[', StringComparison.Ordinal);
        if (at < 0)
            return assemblies.Select(a => a.GetType(name)).FirstOrDefault(t => t is not null);
        var inner = Find(name[(at + 2)..^2], assemblies);
        var outer = Find(name[..at], assemblies);
        return inner is null || outer is null ? null : outer.MakeGenericType(inner);
    }
}
