using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>Reads who is told: people, rotas, routes, maintenance windows, and what a site says of failures.</summary>
internal static class PeopleReaders
{
    /// <summary>The longest that a person's remedy may be, in characters; it stands in mails and on pages.</summary>
    private const int LongestWords = 500;

    /// <summary>The most changes of a rota within a week: one an hour.</summary>
    private const int MostChanges = 168;
    private static readonly Duration LongestUnseen = Duration.FromHours(12);

    public static PersonDefinition? Person(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("person"));
        var toldBy = map.Strings("told-by");
        if (toldBy is null or { Count: 0 })
            map.Missing("told-by", $"say through which channels {name} is told: 'told-by: [post]'");
        var mail = map.Scalar("mail");
        if (mail is not null && !ChannelReader.IsAddress(mail.Value))
            read.Wrong(mail, $"'{mail.Value}' is not a mail address; write somebody@example.org");
        var (away, problems) = ClosedDays.Read([.. (map.Strings("away") ?? []).Select(a => a.Value)]);
        foreach (var (entry, message) in problems)
            read.Wrong(map.Strings("away")![entry], message);
        return new PersonDefinition(name)
        {
            ToldBy = read.Uses(toldBy, "channel"),
            Mail = mail?.Value,
            Hours = [.. (map.Strings("hours") ?? []).Select(h => read.Sentence(h, QuietHours.Read(h.Value))).OfType<QuietHours>()],
            Away = away.Entries.IsEmpty ? null : away,
            Zone = read.Zone(map.Scalar("zone")),
        };
    }

    public static RotaDefinition? Rota(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("rota"));
        var members = map.Strings("members");
        if (members is null or { Count: 0 })
            map.Missing("members", "name the people who take turns, in order: 'members: [mira, tobias]'");
        var changes = map.Required("changes", "say when the next takes over: 'changes: mon at 09:00'");
        LocalDate? first = null;
        if (map.Required("first", "say from which day the turns are counted: 'first: 2026-12-01'") is { } day)
        {
            if (!SentenceWords.TryDate(day.Value, out var date, out var problem))
                read.Wrong(day, problem!);
            else if (date < RotaDefinition.Earliest)
                read.Wrong(
                    day,
                    $"turns are counted from {RotaDefinition.Earliest.ToString("uuuu-MM-dd", CultureInfo.InvariantCulture)} on at the "
                        + $"earliest; choose a later day on which the first takes over"
                );
            else
                first = date;
        }
        var when = read.When(changes);
        if (when is not null && (when.End is not null || when.Reach.Last != int.MaxValue))
            read.Wrong(changes!, $"'{changes!.Value}' comes to an end, and the last person would be on duty for ever; take the end out");
        if (
            when is not null
            && first is { } begin
            && DueInstants
                .Between(
                    when,
                    DateTimeZone.Utc,
                    begin.AtStartOfDayInZone(DateTimeZone.Utc).ToInstant(),
                    begin.PlusDays(7).AtStartOfDayInZone(DateTimeZone.Utc).ToInstant()
                )
                .Skip(MostChanges)
                .Any()
        )
            read.Wrong(changes!, $"'{changes!.Value}' changes more often than every hour; nobody takes turns as short as that");
        var rota = new { Members = read.Uses(members, "person"), StandIn = read.Uses(map.Scalar("stand-in"), "person") };
        return rota.Members.IsEmpty || when is null || first is null
            ? null
            : new RotaDefinition(name, rota.Members, when, first.Value) { StandIn = rota.StandIn, Zone = read.Zone(map.Scalar("zone")) };
    }

    public static RouteDefinition? Route(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("route"));
        var tells = map.Strings("tells");
        if (tells is null or { Count: 0 })
            map.Missing("tells", "say whom it tells: 'tells: [night-watch]', with the name of a rota, a person or a channel");
        var (severity, kind) = (map.Strings("severity"), map.Strings("class"));
        var tellWhen = map.Scalar("tell-when");
        var always = read.Word<TellWhen>(tellWhen) ?? default;
        if (always == TellWhen.Always && (severity ?? kind)?.FirstOrDefault() is { } odd)
            read.Wrong(
                odd,
                "'severity' and 'class' choose among alerts, and a route with 'tell-when: always' tells of every run; make two routes of it"
            );
        var (unseen, then) = (map.Scalar("unseen-for"), map.Strings("then-tells"));
        if (unseen is null != then is null or { Count: 0 })
            read.Wrong(
                unseen ?? (CharterNode)then![0],
                "'unseen-for' and 'then-tells' go together: after how long, and who is told then; give both or neither"
            );
        var unseenFor = read.Span(unseen, atLeastOne: true);
        if (unseenFor is { } span && span.ToDuration() > LongestUnseen)
            read.Wrong(
                unseen!,
                $"'{unseen!.Value}' is longer than {LongestUnseen.TotalHours:0} hours; whoever should act must hear of it sooner"
            );
        return new RouteDefinition(name)
        {
            Severities = Words<Severity>(severity, read),
            Classes = Words<AlertClass>(kind, read),
            Tags = Tags(map, read),
            Jobs = read.Uses(map.Strings("jobs"), "job"),
            Machines = read.Uses(map.Strings("machines"), "machine"),
            Stores = read.Uses(map.Strings("stores"), "store"),
            Tells = read.Uses(tells, CharterLanguage.Tellable),
            TellWhen = always,
            Digest = read.When(map.Scalar("digest")),
            UnseenFor = unseenFor,
            ThenTells = read.Uses(then, CharterLanguage.Tellable),
        };
    }

    public static MaintenanceWindow? Maintenance(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("maintenance-window"));
        var when = read.When(map.Required("when", "say when it begins: 'when: sat at 22:00'"));
        var length = map.Required("lasts", "say how long it lasts: 'lasts: 6 hours'");
        var lasts = read.Span(length, atLeastOne: true);
        if (lasts is { } span && span.ToDuration() > MaintenanceWindow.Longest)
            read.Wrong(
                length!,
                $"'{length!.Value}' is longer than {MaintenanceWindow.Longest.TotalDays:0} days, in which nobody would hear of anything; "
                    + "make it shorter"
            );
        var everything = read.Yes(map.Scalar("everything"));
        var lists = new[] { "tags", "machines", "stores" };
        if (!everything && node is MapNode && lists.All(l => map.Any(l) is null))
            read.Wrong(node, "covers nothing; name 'machines', 'stores' or 'tags', or say 'everything: yes'");
        if (everything && lists.Select(map.Any).FirstOrDefault(l => l is not null) is { } odd)
            read.Wrong(odd, "the window covers everything already; take the line out, or 'everything'");
        var window = new
        {
            Tags = Tags(map, read),
            Machines = read.Uses(map.Strings("machines"), "machine"),
            Stores = read.Uses(map.Strings("stores"), "store"),
        };
        return when is null || lasts is null
            ? null
            : new MaintenanceWindow(name, when, lasts.Value)
            {
                Everything = everything,
                Tags = window.Tags,
                Machines = window.Machines,
                Stores = window.Stores,
                Note = map.Scalar("note")?.Value,
            };
    }

    public static CauseDefinition? Cause(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("cause"));
        if (Kebab.Read<FailureClass>(name) is null)
        {
            var known = Enum.GetValues<FailureClass>().Select(v => Kebab.Of(v)).ToList();
            var near = Nearest.To(name, known);
            read.Wrong(
                node,
                $"there is no failure class '{name}'; {(near is null ? $"they are {string.Join(", ", known)}" : $"did you mean '{near}'?")}"
            );
        }
        var (cause, remedy) = (map.Scalar("cause"), map.Scalar("remedy"));
        if (cause is null && remedy is null && node is MapNode)
            read.Wrong(node, "says neither 'cause' nor 'remedy'; give it one of them, or take it out");
        foreach (var words in new[] { cause, remedy })
            if (words is { Value.Length: > LongestWords } || words?.Value.Any(char.IsControl) == true)
                read.Wrong(words, $"these words are to be read on one line: write at most {LongestWords} characters, and no line breaks");
        return new CauseDefinition(name, cause?.Value, remedy?.Value);
    }

    public static ImmutableArray<string> Tags(MapReader map, ValueReader read)
    {
        var tags = map.Strings("tags") ?? [];
        foreach (var tag in tags.Where(t => !CharterReader.IsName(t.Value)))
            read.Wrong(tag, $"'{tag.Value}' cannot be a tag; use lower-case letters, digits and hyphens");
        return [.. tags.Select(t => t.Value).Distinct().Order(StringComparer.Ordinal)];
    }

    private static ImmutableArray<T> Words<T>(List<ScalarNode>? nodes, ValueReader read)
        where T : struct, Enum => [.. (nodes ?? []).Select(n => read.Word<T>(n)).OfType<T>().Distinct().Order()];
}
