using System.Collections.Immutable;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Service.Charters;
using IronKeep.Service.Definitions;

namespace IronKeep.Service.MachineDesk;

/// <summary>
/// Brings the machines of an inventory into the charter: shows first who comes, who goes and who changes, and then does all of it in one
/// change, or nothing. What the list does not have any more stays as it is, or is retired; it is never taken out.
/// </summary>
public sealed class InventoryDesk(CharterInForce inForce, CharterDesk desk, Consequences consequences, Reach reach)
{
    /// <summary>
    /// A list that has lost more than this share of its machines (and more than a few) is asked about before they are retired.
    /// </summary>
    private const double MayGo = 0.2;
    private const int MayAlwaysGo = 3;

    /// <summary>What an import would do; the reading is null where the list itself is wrong.</summary>
    public async Task<(ImportAnswer Answer, CharterReading? Reading)> PreviewAsync(ImportRequest request, CancellationToken cancel)
    {
        var (charter, revision) = (inForce.Charter, inForce.Revision);
        var read = InventoryReader.Read(request.Text, request.Columns ?? new Dictionary<string, string>());
        var empty = new ImportAnswer(
            revision,
            read.Machines.Count,
            [],
            [],
            [],
            [],
            read.NotUsed,
            CharterAnswers.ToAnswers(read.Mistakes),
            [],
            []
        );
        if (!CharterReader.IsName(request.Source))
            return (
                empty with
                {
                    Mistakes =
                    [
                        new MistakeAnswer(
                            1,
                            1,
                            "the source",
                            $"'{request.Source}' cannot be a source's name; use letters, digits and hyphens"
                        ),
                    ],
                },
                null
            );
        if (read.Mistakes.Length > 0)
            return (empty, null);
        var plan = InventoryPlan.Of(charter, request.Source, read.Machines);
        var reading = CharterDesk.Check(
            CharterWriter.Write(CharterFields.Of(charter), Objects(charter, plan, request.Retire)),
            desk.Machine
        );
        var answer = empty with
        {
            Comes = [.. plan.Comes],
            Changes =
            [
                .. plan.Changes.Select(c => new ImportChangeAnswer(
                    c.Machine,
                    [.. c.Fields.Select(f => new FieldChangeAnswer(f.Field, f.Before, f.After))]
                )),
            ],
            Goes = [.. plan.Goes],
            Retired = [.. plan.Retired],
        };
        if (reading.Charter is not { } later)
        {
            var lines = read.Machines.ToDictionary(m => $"machine {m.Name}", m => m.Line);
            return (
                answer with
                {
                    // A value that the charter does not take is wrong in the list's line.
                    Mistakes =
                    [
                        .. reading.Mistakes.Select(m => new MistakeAnswer(lines.GetValueOrDefault(m.About), 1, m.About, m.Message)),
                    ],
                },
                null
            );
        }
        var means = await consequences.OfAsync(later, cancel);
        var listed = charter.Machines.Values.Count(m => m.ListedIn == request.Source && m.Retired is null);
        if (request.Retire is not null && plan.Goes.Length > Math.Max(MayAlwaysGo, listed * MayGo))
            means =
            [
                $"{plan.Goes.Length} of the {Counted.Of(listed, "machine")} from {request.Source} are not in the list any more, and all of "
                    + "them are retired; see that the list is whole",
                .. means,
            ];
        return (answer with { Consequences = means, Reach = await reach.OfAsync(later, cancel) }, reading);
    }

    /// <summary>Does it; null when done, else why not.</summary>
    public async Task<string?> ApplyAsync(CharterReading reading, long revision, string by, CancellationToken cancel) =>
        (await desk.ApplyAsync(reading, revision, by, cancel)).Problem;

    private static IEnumerable<(string, string, ImmutableArray<CharterField>)> Objects(
        Charter charter,
        InventoryPlan plan,
        RetireWords? retire
    )
    {
        var machines = plan.Machines.ToDictionary(m => m.Name, m => m.Fields);
        foreach (var name in retire is null ? [] : plan.Goes)
            machines[name] =
            [
                .. CharterFields.Of(charter.Machines[name]),
                Field("retired", retire!.Since),
                Field("copies-until", retire.CopiesUntil),
                Field("copies-owner", retire.CopiesOwner),
                Field("decide-by", retire.DecideBy),
            ];
        return CharterFields
            .Objects(charter)
            .Where(o => o.Kind != "machine" || !machines.ContainsKey(o.Name))
            .Concat(machines.Select(m => ("machine", m.Key, m.Value)));

        static CharterField Field(string key, string value) => new(key, [value], false);
    }
}
