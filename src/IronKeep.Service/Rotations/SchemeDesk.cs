using System.Collections.Immutable;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Rotation;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Definitions;
using IronKeep.Service.Forecasts;

namespace IronKeep.Service.Rotations;

/// <summary>Shows what a ready scheme would be before it is chosen, and brings it into the charter as one change.</summary>
public sealed class SchemeDesk(CharterInForce inForce, CharterDesk desk, TimeProvider clock)
{
    /// <summary>What it would be; the reading is null where there are mistakes.</summary>
    public (SchemePlayAnswer Answer, CharterReading? Reading) Preview(ReadyScheme scheme, SchemeRequest request, int nights)
    {
        var (charter, revision) = (inForce.Charter, inForce.Revision);
        var mistakes = new List<string>();
        if (!CharterReader.IsName(request.Set))
            mistakes.Add($"'{request.Set}' cannot be a name; use lower-case letters, digits and hyphens, at most 63");
        var tonight = clock.Now().InZone(charter.Zone).Date;
        var wish = scheme.Read(request.Set, request.Start, request.First, tonight, request.Numbers, mistakes);
        if (mistakes.Count > 0)
            return (Wrong(revision, mistakes), null);
        var play = scheme.Play(wish, charter.Zone, nights);
        if (charter.RotationSets.ContainsKey(wish.Set))
            mistakes.Add($"there is a rotation set {wish.Set} already; choose another name, or take that one out first");
        foreach (var there in play.Set.Groups.Where(g => charter.MediaGroups.ContainsKey(g.Name)))
            mistakes.Add($"there is a media group {there.Name} already; choose another name for the set");
        if (mistakes.Count > 0)
            return (Wrong(revision, mistakes), null);
        var set = new RotationSetDefinition(wish.Set, wish.Start, wish.First, [.. play.Set.Groups.Select(g => g.Name)], null, null);
        (string Kind, string Name, ImmutableArray<CharterField> Fields)[] made =
        [
            .. play.Set.Groups.Select(g => ("media-group", g.Name, CharterFields.Of(g))),
            ("rotation-set", set.Name, CharterFields.Of(set)),
        ];
        var reading = CharterDesk.Check(
            CharterWriter.Write(CharterFields.Of(charter), CharterFields.Objects(charter).Concat(made)),
            desk.Machine
        );
        if (reading.Charter is null)
            return (Wrong(revision, [.. reading.Mistakes.Select(m => $"{m.About}: {m.Message}")]), null);
        return (
            new SchemePlayAnswer(
                revision,
                [],
                play.Media,
                play.ReachDays,
                play.Points,
                CharterWriter.Write([], made),
                [
                    .. play.Set.Groups.Select(g => new SchemeGroupAnswer(
                        g.Name,
                        g.Serves.ToSentence(),
                        [.. g.Media],
                        g.ProtectedFor!.Value.ToString(),
                        g.FillWindow.ToString()
                    )),
                ],
                [.. play.Nights.Select(n => n.ToAnswer())]
            ),
            reading
        );
    }

    /// <summary>Brings it in; null when done, else why not.</summary>
    public async Task<string?> ApplyAsync(CharterReading reading, long revision, string by, CancellationToken cancel) =>
        (await desk.ApplyAsync(reading, revision, by, cancel)).Problem;

    private static SchemePlayAnswer Wrong(long revision, IReadOnlyList<string> mistakes) =>
        new(revision, [.. mistakes.Select(m => Sentence.Begin(m) + ".")], 0, 0, 0, "", [], []);
}
