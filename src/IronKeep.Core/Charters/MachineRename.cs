using System.Collections.Immutable;

namespace IronKeep.Core.Charters;

/// <summary>A charter's text in which a machine has another name, wherever it is named; an expression says what it said.</summary>
public static class MachineRename
{
    /// <summary>The text, or null where the charter does not name the machine.</summary>
    public static string? Of(Charter charter, string from, string to)
    {
        var objects = CharterFields
            .Objects(charter)
            .Select(o => (o.Kind, Name: o.Kind == "machine" && o.Name == from ? to : o.Name, Fields: Renamed(o.Kind, o.Fields, from, to)))
            .ToList();
        var text = CharterWriter.Write(CharterFields.Of(charter), objects);
        return text == CharterWriter.Write(charter) ? null : text;
    }

    private static ImmutableArray<CharterField> Renamed(string kind, ImmutableArray<CharterField> fields, string from, string to)
    {
        var naming = CharterLanguage.Of(kind).Where(k => k.Of == "machine").Select(k => k.Key).ToHashSet();
        return [.. fields.Select(f => naming.Contains(f.Key) ? f with { Values = [.. f.Values.Select(v => v == from ? to : v)] } : f)];
    }
}
