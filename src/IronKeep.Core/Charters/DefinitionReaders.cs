using System.Collections.Immutable;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Rotation;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>Reads the objects of a charter that are short: machines, stores, calendars, policies, rotation sets.</summary>
internal static class DefinitionReaders
{
    public const int MostAtOnce = 64;

    public static MachineDefinition Machine(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("machine"));
        return new MachineDefinition(
            name,
            read.Number(map.Scalar("runs-at-once"), "a number of runs", 1, MostAtOnce),
            read.Number(map.Scalar("importance"), "an importance", 1, 5)
        )
        {
            Tags = PeopleReaders.Tags(map, read),
            Site = ReportReader.Name(map.Scalar("site"), read, "a site"),
            Owner = ReportReader.Name(map.Scalar("owner"), read, "an owner"),
            Line = LineCeilings(map, "line", read),
            SilentAfter = read.Span(map.Scalar("silent-after"), atLeastOne: true) ?? MachineDefinition.UsualSilence,
            ReadOver = ReadOver(map, read),
            ListedIn = ReportReader.Name(map.Scalar("listed-in"), read, "a list"),
            Retired = RetiredMachine.Read(map, read),
        };
    }

    public static ImmutableArray<LineCeiling> LineCeilings(MapReader map, string key, ValueReader read) =>
        [.. (map.Strings(key) ?? []).Select(l => read.Sentence(l, LineCeiling.Read(l.Value))).OfType<LineCeiling>()];

    private static RemoteFolder? ReadOver(MapReader map, ValueReader read)
    {
        if (map.Scalar("read-over") is { } server)
            return ReadRemote(server, map, read, RemoteFolder.ReadServer, "sftp://USER@HOST");
        foreach (var key in new[] { "host-key", "login-key" })
            if (map.Any(key) is { } odd)
                read.Wrong(odd, $"'{key}' goes with 'read-over: sftp://USER@HOST', a machine that the service reads itself; add it");
        return null;
    }

    public static CalendarDefinition? Calendar(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("calendar"));
        if (map.Strings("closed") is not { } entries)
        {
            map.Missing("closed", "name the closed days: 'closed: [dec 25, 2026-12-24 to 2027-01-02]'");
            return null;
        }
        var (closed, problems) = ClosedDays.Read([.. entries.Select(e => e.Value)]);
        foreach (var (entry, message) in problems)
            read.Wrong(entries[entry], message);
        return new CalendarDefinition(name, closed);
    }

    public static StoreDefinition? Store(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("store"));
        var folder = map.Required("folder", "say which folder holds the copies: 'folder: /srv/backup'");
        var remote =
            folder is not null && RemoteFolder.IsMeant(folder.Value)
                ? ReadRemote(folder, map, read, RemoteFolder.Read, "sftp://USER@HOST/FOLDER")
                : null;
        if (folder is not null && !RemoteFolder.IsMeant(folder.Value))
            LocalFolder(folder, map, read);
        var capacity = read.Size(map.Scalar("capacity"));
        var percent = Percent(map.Scalar("reserve"), read);
        var reserve =
            map.Scalar("reserve") is { } share && share.Value.Contains('%', StringComparison.Ordinal)
                ? null
                : read.Size(map.Scalar("reserve"));
        if (capacity is { } c && reserve is { } r && r >= c)
            read.Wrong(
                map.Scalar("reserve")!,
                $"a reserve of {r.ToExactText()} leaves nothing of the capacity of {c.ToExactText()}; make it smaller"
            );
        var warnBelow = read.Size(map.Scalar("warn-below"));
        if (capacity is { } all && warnBelow is { } warn && warn >= all)
            read.Wrong(
                map.Scalar("warn-below")!,
                $"there is never more than {all.ToExactText()} free, so {warn.ToExactText()} would warn for ever; make it smaller"
            );
        var bin = read.Span(map.Scalar("bin")) ?? StoreDefinition.UsualBin;
        var verify = read.When(map.Scalar("verify"));
        var budget = read.Size(map.Scalar("verify-budget"));
        if (budget is not null && verify is null && map.Scalar("verify") is null)
            read.Wrong(map.Scalar("verify-budget")!, "a budget needs a time: add 'verify: daily at 05:00'");
        if (budget is { Bytes: 0 })
            read.Wrong(map.Scalar("verify-budget")!, "a budget of nothing verifies nothing; give it a size such as 10 GB");
        var reclaim = read.When(map.Scalar("reclaim"));
        var dated = DatedReader.Read(map, remote is not null, read);
        var plain = PlainReader.Store(map, read);
        var on = ReadOn(map, read);
        var within = read.Span(map.Scalar("verify-within"), atLeastOne: true);
        if (within is not null && verify is null && map.Scalar("verify") is null)
            read.Wrong(map.Scalar("verify-within")!, "needs a time at which to read: add 'verify: daily at 05:00'");
        return folder is null
            ? null
            : new StoreDefinition(
                name,
                remote is null ? CharterReader.Normal(folder.Value) : folder.Value,
                capacity,
                reserve,
                bin,
                warnBelow,
                verify,
                budget,
                reclaim
            )
            {
                RunsAtOnce = read.Number(map.Scalar("runs-at-once"), "a number of runs", 1, MostAtOnce),
                ReservePercent = percent,
                KeyFile = SecretFile(map.Scalar("key-file"), read),
                PassphraseFile =
                    map.Scalar("key-file") is not null && map.Scalar("passphrase-file") is { } second
                        ? Both(second, read)
                        : SecretFile(map.Scalar("passphrase-file"), read),
                Sha256 = Hash(map.Scalar("hash"), read),
                UploadAtMost = Rate(map.Scalar("upload-at-most"), read),
                DownloadAtMost = Rate(map.Scalar("download-at-most"), read),
                VerifyWithin = within,
                Remote = remote,
                On = on,
                Dated = dated,
                Plain = plain,
            };
    }

    /// <summary>The machine of a store that only its agent reaches.</summary>
    private static string? ReadOn(MapReader map, ValueReader read)
    {
        var (via, on) = (map.Scalar("via"), map.Scalar("on"));
        if (via is not null && via.Value != "agent")
            read.Wrong(via, $"'{via.Value}' is no way to a store; write 'via: agent', or nothing");
        if (via is not null && on is null)
            read.Wrong(via, "'via: agent' needs the machine whose disk it is: add 'on: MACHINE'");
        if (via is null && on is not null)
            read.Wrong(on, "'on' goes with 'via: agent', a store on a machine's own disk; take the line out, or add it");
        if (via is null)
            return null;
        if (map.Scalar("folder") is { } folder && RemoteFolder.IsMeant(folder.Value))
            read.Wrong(via, "a store on a server is reached by the service itself; take 'via' out, or name a folder of the machine");
        foreach (var key in (string[])["key-file", "passphrase-file", "upload-at-most", "download-at-most"])
            if (map.Any(key) is { } odd)
                read.Wrong(
                    odd,
                    $"'{key}' does not go with 'via: agent': the machine writes there by itself, and no key of a store leaves the service. "
                        + "Take the line out"
                );
        return read.Uses(on, "machine");
    }

    /// <summary>A share such as "10 %", of the capacity or of the file system.</summary>
    private static int? Percent(ScalarNode? node, ValueReader read)
    {
        if (node is null || !node.Value.Contains('%', StringComparison.Ordinal))
            return null;
        if (
            int.TryParse(
                node.Value.Replace("%", "", StringComparison.Ordinal).Trim(),
                System.Globalization.NumberStyles.None,
                System.Globalization.CultureInfo.InvariantCulture,
                out var percent
            ) && percent is >= 1 and <= 90
        )
            return percent;
        read.Wrong(node, $"'{node.Value}' is not a share; write a whole number from 1 to 90, such as '10 %', or a size such as 20 GB");
        return null;
    }

    private static RemoteFolder? ReadRemote(
        ScalarNode folder,
        MapReader map,
        ValueReader read,
        Func<string, string, string, RemoteFolder?> address,
        string form
    )
    {
        var hostKey = map.Required(
            "host-key",
            "say by which key the server is known: 'host-key: SHA256:…', as 'ssh-keyscan HOST | ssh-keygen -lf -' prints it; compare it "
                + "with what the server's owner says"
        );
        var loginKey = map.Required("login-key", "say which private key signs in: 'login-key: /etc/ironkeep/login'");
        if (loginKey is not null)
            read.Path(loginKey);
        if (hostKey is not null && !RemoteFolder.IsFingerprint(hostKey.Value))
            read.Wrong(
                hostKey,
                $"'{hostKey.Value}' is not a fingerprint; write it as ssh-keygen -l prints it: SHA256 and a colon, then 43 letters and "
                    + $"digits"
            );
        var remote = address(folder.Value, hostKey?.Value ?? "", loginKey?.Value ?? "");
        if (remote is null)
            read.Wrong(folder, $"'{folder.Value}' is not an address; write {form}, with :PORT behind the host where it is not 22");
        return remote;
    }

    private static void LocalFolder(ScalarNode folder, MapReader map, ValueReader read)
    {
        read.Path(folder);
        foreach (var key in new[] { "host-key", "login-key" })
            if (map.Any(key) is { } odd)
                read.Wrong(odd, $"'{key}' goes with a folder on a server (sftp://USER@HOST/FOLDER); this one is on this machine");
    }

    private static string? SecretFile(ScalarNode? file, ValueReader read)
    {
        if (file is not null)
            read.Path(file);
        return file?.Value;
    }

    private static string? Both(ScalarNode second, ValueReader read)
    {
        read.Wrong(
            second,
            "a store opens with a key file or with a passphrase; name one here, and add the other with 'ironkeep store key add FOLDER'"
        );
        return null;
    }

    private static bool Hash(ScalarNode? node, ValueReader read)
    {
        if (node is null || node.Value == "blake3")
            return false;
        if (node.Value != "sha-256")
            read.Wrong(node, $"'{node.Value}' is not a hash function of ours; write blake3, or sha-256 where it must be");
        return true;
    }

    private static ByteSize? Rate(ScalarNode? node, ValueReader read)
    {
        var size = read.Size(node);
        if (size is { Bytes: < 1024 })
            read.Wrong(node!, "less than 1 KiB a second would never end; give it more, such as 5 MB");
        return size;
    }

    public static PolicyDefinition? Policy(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("policy"));
        var sentence = map.Required("keep", "say what to keep: 'keep: newest 3 then 7 daily then 4 weekly'");
        var atLeast = read.Number(map.Scalar("at-least"), "a floor, the number of newest good copies that always stay", 1, 1000)
            ?? RetentionGuards.UsualFloor;
        var zone = read.Zone(map.Scalar("zone"));
        var promises = (map.Strings("promises") ?? []).Select(p => read.Span(p, atLeastOne: true)).OfType<Span>().Distinct().ToList();
        if (sentence is null || read.Sentence(sentence, RetentionSentence.Read(sentence.Value)) is not { } policy)
            return null;
        return new PolicyDefinition(name, policy, atLeast, zone) { Promises = [.. promises] };
    }

    public static RotationSetDefinition? RotationSet(string name, CharterNode node, ValueReader read, List<Mistake> mistakes)
    {
        var map = read.Map(node, CharterLanguage.Names("rotation-set"));
        var start = RotationReader.ReadStart(
            map.Required("start", "say when a night's run begins: 'start: \"20:00\"'"),
            read.About,
            mistakes
        );
        LocalDate? first = null;
        if (map.Required("first", "say which night is the first: 'first: 2026-12-01'; the media take turns from there") is { } night)
        {
            if (SentenceWords.TryDate(night.Value, out var date, out var problem))
                first = date;
            else
                read.Wrong(night, problem!);
        }
        var groups = map.Strings("groups");
        if (groups is null or { Count: 0 })
            map.Missing(
                "groups",
                "name its media groups in order; the first that serves a night takes it: 'groups: [month-end, weekdays]'"
            );
        var named = read.Uses(groups, "media-group");
        var (zone, calendar) = (read.Zone(map.Scalar("zone")), read.Uses(map.Scalar("calendar"), "calendar"));
        return start is null || first is null || named.Length == 0
            ? null
            : new RotationSetDefinition(name, start.Value, first.Value, named, zone, calendar);
    }
}
