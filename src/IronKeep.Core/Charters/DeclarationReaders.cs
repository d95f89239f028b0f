using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Rotation;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>Reads the objects of a charter that are short: machines, stores, calendars, policies, rotation sets.</summary>
internal static class DeclarationReaders
{
    public const int MostAtOnce = 64;

    public static MachineDeclaration Machine(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, ["runs-at-once", "importance"]);
        return new MachineDeclaration(name, read.Number(map.Scalar("runs-at-once"), "a number of runs", 1, MostAtOnce), read.Number(map.Scalar("importance"), "an importance", 1, 5));
    }

    public static CalendarDeclaration? Calendar(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, ["closed"]);
        if (map.Strings("closed") is not { } entries)
        {
            map.Missing("closed", "name the closed days: 'closed: [dec 25, 2026-12-24 to 2027-01-02]'");
            return null;
        }
        var (closed, problems) = ClosedDays.Read([.. entries.Select(e => e.Value)]);
        foreach (var (entry, message) in problems) read.Wrong(entries[entry], message);
        return new CalendarDeclaration(name, closed);
    }

    public static StoreDeclaration? Store(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, ["folder", "capacity", "reserve", "bin", "warn-below", "runs-at-once", "verify", "verify-budget", "reclaim"]);
        var folder = map.Required("folder", "say which folder holds the copies: 'folder: /srv/backup'");
        if (folder is not null) read.Path(folder);
        var capacity = read.Size(map.Scalar("capacity"));
        var reserve = read.Size(map.Scalar("reserve"));
        if (capacity is { } c && reserve is { } r && r >= c)
            read.Wrong(map.Scalar("reserve")!, $"a reserve of {r.ToExactText()} leaves nothing of the capacity of {c.ToExactText()}; make it smaller");
        var warnBelow = read.Size(map.Scalar("warn-below"));
        if (capacity is { } all && warnBelow is { } warn && warn >= all)
            read.Wrong(map.Scalar("warn-below")!, $"there is never more than {all.ToExactText()} free, so {warn.ToExactText()} would warn for ever; make it smaller");
        var bin = read.Span(map.Scalar("bin")) ?? StoreDeclaration.UsualBin;
        var verify = read.When(map.Scalar("verify"));
        var budget = read.Size(map.Scalar("verify-budget"));
        if (budget is not null && verify is null && map.Scalar("verify") is null) read.Wrong(map.Scalar("verify-budget")!, "a budget needs a time: add 'verify: daily at 05:00'");
        if (budget is { Bytes: 0 }) read.Wrong(map.Scalar("verify-budget")!, "a budget of nothing verifies nothing; give it a size such as 10 GB");
        var reclaim = read.When(map.Scalar("reclaim"));
        return folder is null ? null : new StoreDeclaration(name, CharterReader.Normal(folder.Value), capacity, reserve, bin, warnBelow, verify, budget, reclaim)
        {
            RunsAtOnce = read.Number(map.Scalar("runs-at-once"), "a number of runs", 1, MostAtOnce),
        };
    }

    public static PolicyDeclaration? Policy(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, ["keep", "at-least", "zone", "promises"]);
        var sentence = map.Required("keep", "say what to keep: 'keep: newest 3 then 7 daily then 4 weekly'");
        var atLeast = read.Number(map.Scalar("at-least"), "a floor, the number of newest good copies that always stay", 1, 1000) ?? RetentionGuards.UsualFloor;
        var zone = read.Zone(map.Scalar("zone"));
        var promises = (map.Strings("promises") ?? []).Select(p => read.Span(p, atLeastOne: true)).OfType<Span>().Distinct().ToList();
        if (sentence is null || read.Sentence(sentence, RetentionSentence.Read(sentence.Value)) is not { } policy) return null;
        return new PolicyDeclaration(name, policy, atLeast, zone) { Promises = [.. promises] };
    }

    public static RotationSetDeclaration? RotationSet(string name, CharterNode node, ValueReader read, List<Mistake> mistakes)
    {
        var map = read.Map(node, ["start", "first", "zone", "calendar", "groups"]);
        var start = RotationReader.ReadStart(map.Required("start", "say when a night's run begins: 'start: \"20:00\"'"), read.About, mistakes);
        LocalDate? first = null;
        if (map.Required("first", "say which night is the first: 'first: 2026-12-01'; the media take turns from there") is { } night)
        {
            if (SentenceWords.TryDate(night.Value, out var date, out var problem)) first = date;
            else read.Wrong(night, problem!);
        }
        var groups = map.Strings("groups");
        if (groups is null or { Count: 0 }) map.Missing("groups", "name its media groups in order; the first that serves a night takes it: 'groups: [month-end, weekdays]'");
        var named = read.Uses(groups, "media-group");
        var (zone, calendar) = (read.Zone(map.Scalar("zone")), read.Uses(map.Scalar("calendar"), "calendar"));
        return start is null || first is null || named.Length == 0 ? null : new RotationSetDeclaration(name, start.Value, first.Value, named, zone, calendar);
    }
}
