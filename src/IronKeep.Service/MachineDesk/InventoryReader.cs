using System.Collections.Immutable;
using System.Globalization;
using System.Text.Json;
using CsvHelper;
using CsvHelper.Configuration;
using IronKeep.Core.Charters;
using IronKeep.Core.Machines;

namespace IronKeep.Service.MachineDesk;

/// <summary>What an inventory's text lists, which of its columns nothing is made of, and what is wrong with it (lines from 1).</summary>
public sealed record ReadInventory(IReadOnlyList<ListedMachine> Machines, IReadOnlyList<string> NotUsed, ImmutableArray<Mistake> Mistakes);

/// <summary>
/// Reads an inventory: CSV with a header (separated by comma, semicolon or tab), or a JSON array of objects, as it begins. Names are taken
/// in lower case and without their domain. Several tags stand in one value, separated by spaces, semicolons or commas; in JSON also as an
/// array.
/// </summary>
public static class InventoryReader
{
    /// <summary>More machines than this are a mistake of whoever made the list.</summary>
    public const int MostMachines = 20_000;
    private const int MostMistakes = 100,
        MostColumns = 200;
    private const string NameKey = "name";
    private static readonly char[] Between = [' ', ';', ','];

    /// <param name="text">The inventory.</param>
    /// <param name="columns">Which column has which key of a machine, where it is not called as the key is.</param>
    public static ReadInventory Read(string text, IReadOnlyDictionary<string, string> columns)
    {
        var read = new Reading(columns);
        foreach (var (key, column) in columns)
            if (key != NameKey && !InventoryPlan.Keys.Contains(key))
                read.Wrong(
                    1,
                    $"'{key}' is nothing that a list can say of a machine; use {NameKey}, {string.Join(", ", InventoryPlan.Keys)}"
                );
        var body = text.TrimStart('\uFEFF', ' ', '\n', '\r', '\t');
        if (body.Length == 0)
            read.Wrong(1, "the list is empty; a list of no machines changes nothing");
        else if (body[0] is '[' or '{')
            read.Json(text.TrimStart('\uFEFF'));
        else
            read.Csv(text.TrimStart('\uFEFF'));
        return read.Done();
    }

    private sealed class Reading(IReadOnlyDictionary<string, string> columns)
    {
        private readonly List<ListedMachine> machines = [];
        private readonly Dictionary<string, int> lines = [];
        private readonly SortedSet<string> notUsed = new(StringComparer.Ordinal);
        private readonly List<Mistake> mistakes = [];

        public ReadInventory Done() => new(machines, [.. notUsed], [.. mistakes.OrderBy(m => m.Line)]);

        public void Wrong(int line, string message) => mistakes.Add(new Mistake(line, 1, "the list", message));

        /// <summary>Whether so much is wrong that the rest is not looked at.</summary>
        private bool IsEnough => mistakes.Count >= MostMistakes;

        private string ColumnOf(string key) => columns.GetValueOrDefault(key, key);

        public void Csv(string text)
        {
            using var csv = new CsvReader(
                new StringReader(text),
                new CsvConfiguration(CultureInfo.InvariantCulture)
                {
                    DetectDelimiter = true,
                    DetectDelimiterValues = [",", ";", "\t"],
                    TrimOptions = TrimOptions.Trim,
                    BadDataFound = null,
                    MissingFieldFound = null,
                    PrepareHeaderForMatch = h => h.Header.Trim(),
                }
            );
            try
            {
                if (!csv.Read() || !csv.ReadHeader())
                    return;
                var header = csv.HeaderRecord!.Select(h => h.Trim()).ToList();
                if (header.GroupBy(h => h).FirstOrDefault(g => g.Count() > 1) is { } twice)
                {
                    Wrong(1, $"two columns are called '{twice.Key}'");
                    return;
                }
                if (!Knows(header, 1))
                    return;
                while (!IsEnough && csv.Read())
                {
                    var (line, record) = (csv.Parser.RawRow, csv.Parser.Record!);
                    if (record.All(string.IsNullOrWhiteSpace))
                        continue;
                    if (record.Length != header.Count)
                        Wrong(line, $"has {record.Length} values where the header has {header.Count}");
                    else if (!Add(line, key => header.IndexOf(ColumnOf(key)) is >= 0 and var at ? Split(key, record[at]) : null))
                        return;
                }
            }
            catch (CsvHelperException e)
            {
                Wrong(csv.Parser.RawRow, $"the list cannot be read as CSV: {e.Message.Split('\n')[0].TrimEnd('\r', '.')}");
            }
        }

        public void Json(string text)
        {
            try
            {
                using var whole = JsonDocument.Parse(text);
                if (whole.RootElement.ValueKind != JsonValueKind.Array)
                {
                    Wrong(1, "the list is JSON, and no array of machines: write [{\"name\": \"heron\", \"site\": \"lighthouse\"}, …]");
                    return;
                }
                var number = 0;
                foreach (var machine in whole.RootElement.EnumerateArray())
                {
                    if (IsEnough)
                        return;
                    number++;
                    if (machine.ValueKind != JsonValueKind.Object)
                        Wrong(number, $"entry {number} is no object");
                    else if (number == 1 && !Knows([.. machine.EnumerateObject().Select(p => p.Name)], number))
                        return;
                    else if (!Add(number, key => machine.TryGetProperty(ColumnOf(key), out var value) ? Values(key, value) : null))
                        return;
                }
            }
            catch (JsonException e)
            {
                Wrong((int)(e.LineNumber ?? 0) + 1, $"the list cannot be read as JSON: {e.Message.Split(". ")[0]}");
            }
        }

        /// <summary>Whether the columns have a name among them; notes those of which nothing is made.</summary>
        private bool Knows(List<string> header, int line)
        {
            if (header.Count > MostColumns)
            {
                Wrong(
                    line,
                    $"there are {header.Count} columns; {MostColumns} are the most, so leave out those that say nothing of machines"
                );
                return false;
            }
            var used = InventoryPlan.Keys.Prepend(NameKey).Select(ColumnOf).ToHashSet();
            notUsed.UnionWith(header.Where(h => !used.Contains(h)));
            foreach (var (key, column) in columns)
                if (!header.Contains(column))
                    Wrong(line, $"there is no column '{column}', which was to have the {key}; there are {string.Join(", ", header)}");
            if (!header.Contains(ColumnOf(NameKey)))
                Wrong(
                    line,
                    $"there is no column '{ColumnOf(NameKey)}' with the machines' names, only {string.Join(", ", header)}; name it with "
                        + "'--column name=COLUMN'"
                );
            return mistakes.Count == 0;
        }

        /// <summary>Takes one machine; false when there are so many that the rest is not looked at.</summary>
        private bool Add(int line, Func<string, ImmutableArray<string>?> of)
        {
            var said = of(NameKey) is [{ } one] ? one : "";
            var name = said.Split('.')[0].Trim().ToLowerInvariant();
            if (!CharterReader.IsName(name))
                Wrong(line, $"'{said}' cannot be the name of a machine; names are letters, digits and inner hyphens, at most 63");
            else if (!lines.TryAdd(name, line))
                Wrong(line, $"machine {name} is listed twice, first in {lines[name]}");
            else
                machines.Add(
                    new ListedMachine(
                        name,
                        line,
                        [
                            .. InventoryPlan
                                .Keys.Select(key => (key, Values: of(key)))
                                .Where(v => v.Values is not null)
                                .Select(v => new CharterField(v.key, v.Values!.Value, IsList(v.key))),
                        ]
                    )
                );
            if (lines.Count <= MostMachines)
                return true;
            Wrong(line, $"there are more than {MostMachines} machines; import them in parts, each from a source of its own");
            return false;
        }

        private static bool IsList(string key) => key is "tags" or "line";

        private static ImmutableArray<string> Split(string key, string value) =>
            key == "tags" ? [.. value.Split(Between, StringSplitOptions.RemoveEmptyEntries)]
            : value.Length == 0 ? []
            : key == "line" ? [.. value.Split(';', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)]
            : [value];

        private static ImmutableArray<string> Values(string key, JsonElement value) =>
            value.ValueKind switch
            {
                JsonValueKind.Null => [],
                JsonValueKind.Array => [.. value.EnumerateArray().Select(v => v.ToString())],
                _ => Split(key, value.ToString()),
            };
    }
}
