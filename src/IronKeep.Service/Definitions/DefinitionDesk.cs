using System.Collections.Immutable;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Charters;

namespace IronKeep.Service.Definitions;

/// <summary>A draft of one object inside the charter in force: what reading gave, and its mistakes by field.</summary>
public sealed record Draft(
    CharterReading Reading,
    IReadOnlyList<FieldMistakeAnswer> Mistakes,
    ImmutableArray<CharterField> Fields,
    string Yaml
);

/// <summary>
/// Single objects of the charter, read and changed one by one. There is one model: a changed object is put among the fields of the
/// charter in force, the whole is read by the one reader, and applied like any charter.
/// </summary>
public sealed class DefinitionDesk(CharterInForce inForce, CharterDesk desk)
{
    public const string SettingsName = "charter";
    private const int MostItems = 1000;
    private static readonly string[] Lists =
    [
        "takes",
        "leaves-out",
        "into",
        "tells",
        "mail-to",
        "quiet-hours",
        "locks",
        "closed",
        "promises",
        "media",
        "groups",
    ];

    /// <summary>Every object there is, in the order of the text.</summary>
    public IReadOnlyList<DefinitionAnswer> All() =>
        [
            Answer(CharterFields.Settings, SettingsName, CharterFields.Of(inForce.Charter)),
            .. CharterFields.Objects(inForce.Charter).Select(o => Answer(o.Kind, o.Name, o.Fields)),
        ];

    /// <summary>One object; null when there is none.</summary>
    public DefinitionAnswer? Find(string kind, string name) => FieldsOf(kind, name) is { } fields ? Answer(kind, name, fields) : null;

    /// <summary>The charter in force with one object changed, added, or (null) taken out.</summary>
    public Draft With(string kind, string name, DefinitionRequest? request)
    {
        var charter = inForce.Charter;
        var fields = request is null
            ? []
            : request
                .Fields.Where(f => f.Value.Count > 0)
                .Select(f => new CharterField(f.Key, [.. f.Value], f.Value.Count > 1 || Lists.Contains(f.Key)))
                .ToImmutableArray();
        var top = kind == CharterFields.Settings && request is not null ? fields : CharterFields.Of(charter);
        var objects = CharterFields.Objects(charter).Where(o => (o.Kind, o.Name) != (kind, name)).ToList();
        if (request is not null && kind != CharterFields.Settings)
            objects.Add((kind, name, fields));
        var entries = ImmutableArray.CreateBuilder<(ScalarNode, CharterNode)>();
        entries.Add((Text("charter", 0), Text(Charter.Version.ToString(CultureInfo.InvariantCulture), 0)));
        entries.AddRange(Nodes(top, mine: kind == CharterFields.Settings));
        foreach (var (section, objectsOf) in CharterFields.Sections.Select(s => (s.Section, objects.Where(o => o.Kind == s.Kind))))
            entries.Add(
                (
                    Text(section, 0),
                    new MapNode(
                        [
                            .. objectsOf.Select(o =>
                                (Text(o.Name, 0), (CharterNode)new MapNode([.. Nodes(o.Fields, (o.Kind, o.Name) == (kind, name))], 0, 0))
                            ),
                        ],
                        0,
                        0
                    )
                )
            );
        var reading = CharterDesk.Check(CharterReader.Read(new MapNode(entries.ToImmutable(), 0, 0), desk.Machine), desk.Machine);
        var yaml = kind == CharterFields.Settings ? CharterWriter.Write(top, []) : CharterWriter.Object(name, fields);
        return new Draft(reading, [.. reading.Mistakes.Select(m => ToAnswer(m, fields))], fields, yaml);
    }

    /// <summary>The ETag of an object, quoted.</summary>
    public static string Tag(string yaml) => $"\"{Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(yaml))[..8])}\"";

    private ImmutableArray<CharterField>? FieldsOf(string kind, string name) =>
        kind != CharterFields.Settings ? CharterFields.Find(inForce.Charter, kind, name)
        : name == SettingsName ? CharterFields.Of(inForce.Charter)
        : null;

    private static DefinitionAnswer Answer(string kind, string name, ImmutableArray<CharterField> fields)
    {
        var yaml = kind == CharterFields.Settings ? CharterWriter.Write(fields, []) : CharterWriter.Object(name, fields);
        return new DefinitionAnswer(kind, name, fields.ToDictionary(f => f.Key, f => (IReadOnlyList<string>)f.Values), yaml, Tag(yaml));
    }

    // A field's number, and that of its value, travel through the reader as a line; a place within the value as a column.
    private static IEnumerable<(ScalarNode, CharterNode)> Nodes(ImmutableArray<CharterField> fields, bool mine)
    {
        for (var i = 0; i < fields.Length; i++)
        {
            var (field, line) = (fields[i], mine ? (i + 1) * MostItems : 0);
            CharterNode value = field.IsList
                ? new ListNode(
                    [.. field.Values.Select((v, n) => (CharterNode)Text(v, mine ? line + Math.Min(n, MostItems - 1) : 0))],
                    line,
                    1
                )
                : Text(field.Values[0], line);
            yield return (Text(field.Key, line), value);
        }
    }

    private static ScalarNode Text(string value, int line) => new(value, line, 1);

    private static FieldMistakeAnswer ToAnswer(Mistake mistake, ImmutableArray<CharterField> fields)
    {
        var field = mistake.Line / MostItems - 1;
        if (field >= 0 && field < fields.Length)
            return new FieldMistakeAnswer(fields[field].Key, mistake.Line % MostItems, mistake.Column - 1, mistake.About, mistake.Message);
        // "'takes' is missing; …" is about a field that is not there.
        var missing =
            mistake.Message.StartsWith('\'') && mistake.Message.IndexOf("' is missing", StringComparison.Ordinal) is > 0 and var end
                ? mistake.Message[1..end]
                : null;
        return new FieldMistakeAnswer(missing, 0, 0, mistake.About, mistake.Message);
    }
}
