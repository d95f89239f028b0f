using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Dated;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Reports;
using IronKeep.Core.Rotation;
using IronKeep.Core.Schedules;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;

namespace IronKeep.Core.Charters;

/// <summary>One field of a declared object as it stands in a charter's text: a single value or a list of them.</summary>
public sealed record CharterField(string Key, ImmutableArray<string> Values, bool IsList)
{
    /// <summary>The value for people, on one line.</summary>
    public string Text => string.Join(", ", Values);

    public bool Equals(CharterField? other) =>
        other is not null && Key == other.Key && IsList == other.IsList && Values.SequenceEqual(other.Values);

    public override int GetHashCode() => HashCode.Combine(Key, Values.Length);
}

/// <summary>
/// The fields of every declared object, in the order of the text, those left at their defaults absent. The one list that
/// writing, comparing and the API's forms of a charter go by; <see cref="CharterReader"/> reads the same keys.
/// </summary>
public static class CharterFields
{
    public const string Settings = "settings";

    /// <summary>The kinds of objects with the section that each stands in.</summary>
    public static ImmutableArray<(string Kind, string Section)> Sections { get; } =
    [
        ("machine", "machines"),
        ("line", "lines"),
        ("store", "stores"),
        ("calendar", "calendars"),
        ("policy", "policies"),
        ("media-group", "media-groups"),
        ("rotation-set", "rotation-sets"),
        ("channel", "channels"),
        ("person", "people"),
        ("rota", "rotas"),
        ("route", "routes"),
        ("maintenance-window", "maintenance-windows"),
        ("cause", "causes"),
        ("report", "reports"),
        ("log-rules", "log-rules"),
        ("step", "steps"),
        ("job-group", "job-groups"),
        ("job", "jobs"),
        ("variant", "variants"),
    ];

    public static ImmutableArray<CharterField> Of(MachineDefinition m) =>
        List(
            One("runs-at-once", Number(m.RunsAtOnce)),
            One("importance", Number(m.Importance)),
            Many("tags", m.Tags),
            One("site", m.Site),
            One("owner", m.Owner),
            Many("line", [.. m.Line.Select(l => l.Words)]),
            One("silent-after", Unless(m.SilentAfter, MachineDefinition.UsualSilence)),
            One("read-over", m.ReadOver?.Server),
            One("host-key", m.ReadOver?.HostKey),
            One("login-key", m.ReadOver?.LoginKey),
            One("listed-in", m.ListedIn),
            One("retired", m.Retired is { } retired ? SentenceWords.Date(retired.Since) : null),
            One("copies-until", m.Retired is { } kept ? SentenceWords.Date(kept.CopiesUntil) : null),
            One("copies-owner", m.Retired?.CopiesOwner),
            One("decide-by", m.Retired is { } decided ? SentenceWords.Date(decided.DecideBy) : null)
        );

    public static ImmutableArray<CharterField> Of(LineDefinition l) =>
        List(
            Many("machines", l.Selection.On),
            One("runs-at-once", Number(l.RunsAtOnce)),
            Many("bandwidth", [.. l.Bandwidth.Select(b => b.Words)])
        );

    public static ImmutableArray<CharterField> Of(CalendarDefinition c) => List(Many("closed", c.Closed.Entries));

    public static ImmutableArray<CharterField> Of(MediaGroup g) =>
        List(
            One("serves", g.Serves.ToSentence()),
            Many("media", g.Media),
            One("protected-for", g.ProtectedFor?.ToString() ?? "always"),
            One("fill-window", Unless(g.FillWindow, MediaGroup.UsualFillWindow)),
            One("run-length", Unless(g.RunLength, MediaGroup.UsualRunLength))
        );

    public static ImmutableArray<CharterField> Of(RotationSetDefinition r) =>
        List(
            One("start", SentenceWords.Time(r.Start)),
            One("first", SentenceWords.Date(r.First)),
            One("zone", r.Zone?.Id),
            One("calendar", r.Calendar),
            Many("groups", r.Groups)
        );

    public static ImmutableArray<CharterField> Of(StoreDefinition s) =>
        List(
            One("folder", s.Folder),
            One("via", s.On is null ? null : "agent"),
            One("on", s.On),
            One("layout", s.Layout == "pooled" ? null : s.Layout),
            One("piece-size", s.Plain?.PieceSize?.ToExactText()),
            One("compressed", s.Plain is { Compresses: false } ? "no" : null),
            One("name", s.Dated?.Name.Text),
            Many("kinds", s.Dated is null ? [] : [.. s.Dated.Name.Kinds.Select(k => $"{Kebab.Of(k.Kind)} {k.Word}")]),
            One("zone", s.Dated?.Zone?.Id),
            One("settled-after", s.Dated is null ? null : Unless(s.Dated.SettledAfter, DatedFiles.UsualSettledAfter)),
            One("capacity", s.Capacity?.ToExactText()),
            One("reserve", s.ReservePercent is { } percent ? $"{percent} %" : s.Reserve?.ToExactText()),
            One("bin", s.Bin.ToString()),
            One("warn-below", s.WarnBelow?.ToExactText()),
            One("runs-at-once", Number(s.RunsAtOnce)),
            One("verify", Sentence(s.VerifyWhen)),
            One("verify-budget", s.VerifyBudget?.ToExactText()),
            One("verify-within", s.VerifyWithin?.ToString()),
            One("reclaim", Sentence(s.ReclaimWhen)),
            One("key-file", s.KeyFile),
            One("passphrase-file", s.PassphraseFile),
            One("hash", s.Sha256 ? "sha-256" : null),
            One("host-key", s.Remote?.HostKey),
            One("login-key", s.Remote?.LoginKey),
            One("upload-at-most", s.UploadAtMost?.ToExactText()),
            One("download-at-most", s.DownloadAtMost?.ToExactText())
        );

    public static ImmutableArray<CharterField> Of(PolicyDefinition p) =>
        List(
            One("keep", p.Keep.ToString()),
            One("at-least", p.AtLeast.ToString(CultureInfo.InvariantCulture)),
            One("zone", p.Zone?.Id),
            Many("promises", [.. p.Promises.Select(s => s.ToString())])
        );

    public static ImmutableArray<CharterField> Of(ChannelDefinition c) =>
        List(
            Many("mail-to", c.MailTo),
            One("mail-from", c.MailFrom),
            One("server", c.Host is null ? null : $"{c.Host}:{c.Port}"),
            One("security", c.Kind == ChannelKind.Smtp ? Kebab.Of(c.Security) : null),
            One("user", c.User),
            One("password-file", c.PasswordFile),
            One("pickup", c.Folder),
            One("webhook", c.Url),
            One("webhook-file", c.UrlFile),
            One("token-file", c.TokenFile),
            One("sign-file", c.SignFile),
            One("syslog", c.Syslog),
            Many("command", c.Command),
            One("command-seconds", c.CommandSeconds == ChannelDefinition.UsualCommandSeconds ? null : Number(c.CommandSeconds)),
            One("desk", c.Desk?.Address),
            Many("headers", [.. (c.Desk?.Headers ?? []).Select(h => $"{h.Name}: {h.Value}")]),
            One("opens", Call(c.Desk?.Opens)),
            One("open-body", c.Desk?.Opens.Body?.Text),
            One("reference", c.Desk?.Reference),
            One("updates", Call(c.Desk?.Updates)),
            One("update-body", c.Desk?.Updates?.Body?.Text),
            One("closes", Call(c.Desk?.Closes)),
            One("close-body", c.Desk?.Closes?.Body?.Text),
            One("ticket-page", c.Desk?.Page?.Text)
        );

    private static string? Call(DeskCall? call) => call is null ? null : $"{call.Method} {call.Path}";

    public static ImmutableArray<CharterField> Of(PersonDefinition p) =>
        List(
            Many("told-by", p.ToldBy),
            One("mail", p.Mail),
            Many("hours", [.. p.Hours.Select(h => h.ToString())]),
            Many("away", p.Away?.Entries ?? []),
            One("zone", p.Zone?.Id)
        );

    public static ImmutableArray<CharterField> Of(RotaDefinition r) =>
        List(
            Many("members", r.Members),
            One("changes", Sentence(r.Changes)),
            One("first", SentenceWords.Date(r.First)),
            One("stand-in", r.StandIn),
            One("zone", r.Zone?.Id)
        );

    public static ImmutableArray<CharterField> Of(RouteDefinition r) =>
        List(
            Many("severity", [.. r.Severities.Select(s => Kebab.Of(s))]),
            Many("class", [.. r.Classes.Select(c => Kebab.Of(c))]),
            Many("tags", r.Tags),
            Many("jobs", r.Jobs),
            Many("machines", r.Machines),
            Many("stores", r.Stores),
            Many("tells", r.Tells),
            One("tell-when", r.TellWhen == TellWhen.Trouble ? null : Kebab.Of(r.TellWhen)),
            One("digest", Sentence(r.Digest)),
            One("unseen-for", r.UnseenFor?.ToString()),
            Many("then-tells", r.ThenTells)
        );

    public static ImmutableArray<CharterField> Of(MaintenanceWindow w) =>
        List(
            One("when", Sentence(w.When)),
            One("lasts", w.Lasts.ToString()),
            One("everything", w.Everything ? "yes" : null),
            Many("tags", w.Tags),
            Many("machines", w.Machines),
            Many("stores", w.Stores),
            One("note", w.Note)
        );

    public static ImmutableArray<CharterField> Of(ReportDefinition r) =>
        List(
            One("every", Kebab.Of(r.Every)),
            Many("sites", r.Sites),
            Many("owners", r.Owners),
            Many("tags", r.Tags),
            Many("machines", r.Machines),
            Many("jobs", r.Jobs),
            One("when", Sentence(r.When)),
            Many("tells", r.Tells)
        );

    public static ImmutableArray<CharterField> Of(CauseDefinition c) => List(One("cause", c.Cause), One("remedy", c.Remedy));

    public static ImmutableArray<CharterField> Of(LogRules r) =>
        List(
            Patterns(r, "begins", LogList.Begins),
            Patterns(r, "ends", LogList.Ends),
            One("times", r.TimesText),
            One("zone", r.Zone?.Id),
            Patterns(r, "ok", LogList.Ok),
            Patterns(r, "warned", LogList.Warned),
            Patterns(r, "failed", LogList.Failed),
            Patterns(r, "ignores", LogList.Ignores),
            Patterns(r, "figures", LogList.Figures),
            One("exit-codes", LogRulesReader.Text(r.ExitCodes)),
            One("quiet-after", Unless(r.QuietAfter, LogRules.UsualQuiet)),
            Many("examples", [.. r.Examples.Select(LogRulesReader.Text)])
        );

    private static CharterField? Patterns(LogRules rules, string key, LogList list) =>
        Many(key, [.. rules.Rules.Where(r => r.List == list).Select(LogRulesReader.Text)]);

    public static ImmutableArray<CharterField> Of(StepDefinition s) =>
        List(
            Many("command", s.Command),
            One("as", s.As),
            One("limit", Unless(s.Limit, StepDefinition.UsualLimit)),
            One("keeps-as", s.KeepsAs),
            One("note", s.Note)
        );

    /// <summary>What a job's own text says, without what it has from its groups.</summary>
    public static ImmutableArray<CharterField> SaidBy(JobDefinition j) => j.Said ?? Of(j);

    public static ImmutableArray<CharterField> Of(JobDefinition j) =>
        List(
            Many("on", j.Selection.On),
            Many("except", j.Selection.ExceptWords),
            One("like", j.Like),
            One("watched", j.Watched ? "yes" : null),
            Many("heard-by", j.HeardBy is [Watching.EvidenceSource.CheckIn] ? [] : [.. j.HeardBy.Select(h => Kebab.Of(h))]),
            Many("log", j.Logs),
            Many("syslog", j.Syslog),
            Many("syslog-text", j.SyslogText),
            One("log-rules", j.LogRules),
            One("note", j.Note),
            Many("takes", j.Takes),
            Many("leaves-out", j.LeavesOut),
            One("leaves-out-caches", j.LeavesOutCaches ? "yes" : null),
            One("other-file-systems", j.OtherFileSystems ? "yes" : null),
            Many(j.Watched ? "leaves-copy-in" : "into", j.Into),
            One("early", Unless(j.Early, JobDefinition.UsualEarly)),
            One("compression", j.Compression == 1 ? null : Number(j.Compression)),
            One("partials", j.Partials is null ? null : Kebab.Of(j.Partials.Kind)),
            One("full", j.Partials?.Full?.ToSentence()),
            One("longest-chain", Number(j.Partials?.Longest)),
            One("oldest-full", j.Partials?.Oldest?.ToString()),
            Many("streams", j.Streams),
            Many("before", j.Before),
            One("until", j.Until),
            One("patience", Unless(j.Patience, JobDefinition.UsualPatience)),
            Many("still-at", [.. j.StillAt.Select(s => s.ToString())]),
            One("watches-service", j.WatchesService),
            One("starts-service", j.StartsService),
            One("starts-at-most", j.StartsAtMost == StartCeiling.Usual ? null : j.StartsAtMost.ToString()),
            Many("after-success", j.AfterSuccess),
            Many("after-failure", j.AfterFailure),
            Many("always-after", j.AlwaysAfter),
            One("when", Sentence(j.When)),
            One("after", j.After),
            One("zone", j.Zone?.Id),
            One("calendar", j.Calendar),
            One("when-closed", j.WhenClosed is { } closed ? Kebab.Of(closed) : null),
            Many("quiet-hours", [.. j.QuietHours.Select(q => q.ToString())]),
            One("when-quiet", j.WhenQuiet == WindowRule.Shift ? null : Kebab.Of(j.WhenQuiet)),
            One("spread", j.Spread?.ToString()),
            One("importance", Number(j.Importance)),
            Many("locks", j.Locks),
            Many("needs", [.. j.Needs.Select(n => n.Words)]),
            One("policy", j.Policy.Length == 0 ? null : j.Policy),
            One("fresh-within", j.FreshWithin?.ToString()),
            One("start-limit", Unless(j.StartLimit, JobDefinition.UsualStartLimit)),
            One("run-limit", j.RunLimit?.ToString()),
            One("catch-up", j.CatchUp == CatchUp.Once ? null : Kebab.Of(j.CatchUp)),
            One("wait-after-return", Unless(j.WaitAfterReturn, JobDefinition.UsualWaitAfterReturn)),
            One("catch-up-gap", Unless(j.CatchUpGap, JobDefinition.UsualCatchUpGap)),
            One("overlap", j.Overlap == Overlap.Skip ? null : Kebab.Of(j.Overlap)),
            One("retries", j.Retries == 0 ? null : j.Retries.ToString(CultureInfo.InvariantCulture)),
            One("band", j.Band == Watching.Band.Usual ? null : j.Band.ToString()),
            One("prune", j.Prune == PruneTime.ByHand ? null : Kebab.Of(j.Prune)),
            Many("tags", j.Tags),
            Many("tells", j.Tells),
            One("tell-when", j.TellWhen == TellWhen.Trouble ? null : Kebab.Of(j.TellWhen)),
            One("severity", j.Severity.Word()),
            One("expect-size", j.ExpectSize?.ToExactText()),
            One("expect-change", j.ExpectChange?.ToExactText()),
            One("expect-growth", j.ExpectGrowth?.ToExactText()),
            One("expect-time", j.ExpectTime?.ToString())
        );

    /// <summary>What stands at the top of the charter beside its objects.</summary>
    public static ImmutableArray<CharterField> Of(Charter c) =>
        List(
            One("zone", c.Zone.Id),
            Many("tells", c.Tells),
            One("duty-mail", Sentence(c.DutyMail)),
            One("sign-of-life", Sentence(c.SignOfLife)),
            One("heartbeat-file", c.HeartbeatFile),
            One("heartbeat-every", c.HeartbeatFile is null ? null : Unless(c.HeartbeatEvery, Charter.UsualHeartbeat)),
            One("runs-at-once", Number(c.RunsAtOnce)),
            One("agent-lapses", Unless(c.AgentLapses, AgentRight.UsualLapse)),
            One("jobs-like", c.JobsLike)
        );

    /// <summary>Every object by kind and name, with its fields.</summary>
    public static IEnumerable<(string Kind, string Name, ImmutableArray<CharterField> Fields)> Objects(Charter charter) =>
        charter
            .Machines.Values.Select(m => ("machine", m.Name, Of(m)))
            .Concat(charter.Lines.Values.Select(l => ("line", l.Name, Of(l))))
            .Concat(charter.Stores.Values.Select(s => ("store", s.Name, Of(s))))
            .Concat(charter.Calendars.Values.Select(c => ("calendar", c.Name, Of(c))))
            .Concat(charter.MediaGroups.Values.Select(g => ("media-group", g.Name, Of(g))))
            .Concat(charter.RotationSets.Values.Select(r => ("rotation-set", r.Name, Of(r))))
            .Concat(charter.Policies.Values.Select(p => ("policy", p.Name, Of(p))))
            .Concat(charter.Channels.Values.Select(c => ("channel", c.Name, Of(c))))
            .Concat(charter.People.Values.Select(p => ("person", p.Name, Of(p))))
            .Concat(charter.Rotas.Values.Select(r => ("rota", r.Name, Of(r))))
            .Concat(charter.Routes.Values.Select(r => ("route", r.Name, Of(r))))
            .Concat(charter.MaintenanceWindows.Values.Select(w => ("maintenance-window", w.Name, Of(w))))
            .Concat(charter.Causes.Values.Select(c => ("cause", c.Name, Of(c))))
            .Concat(charter.Reports.Values.Select(r => ("report", r.Name, Of(r))))
            .Concat(charter.LogRules.Values.Select(r => ("log-rules", r.Name, Of(r))))
            .Concat(charter.Steps.Values.Select(s => ("step", s.Name, Of(s))))
            .Concat(charter.JobGroups.Values.Select(g => ("job-group", g.Name, g.Fields)))
            .Concat(charter.Jobs.Values.Select(j => ("job", j.Name, SaidBy(j))))
            .Concat(charter.Variants.Values.Select(v => ("variant", v.Name, v.Fields)));

    /// <summary>The fields of one object; null when there is none of that kind and name.</summary>
    public static ImmutableArray<CharterField>? Find(Charter charter, string kind, string name)
    {
        foreach (var (k, n, fields) in Objects(charter))
            if (k == kind && n == name)
                return fields;
        return null;
    }

    private static ImmutableArray<CharterField> List(params ReadOnlySpan<CharterField?> fields)
    {
        var present = ImmutableArray.CreateBuilder<CharterField>();
        foreach (var field in fields)
            if (field is not null)
                present.Add(field);
        return present.ToImmutable();
    }

    private static CharterField? One(string key, string? value) => value is null ? null : new CharterField(key, [value], false);

    private static CharterField? Many(string key, ImmutableArray<string> values) =>
        values.Length == 0 ? null : new CharterField(key, values, true);

    private static string? Sentence(Schedule? schedule) => schedule?.ToSentence();

    private static string? Unless(Span span, Span usual) => span == usual ? null : span.ToString();

    private static string? Number(int? number) => number?.ToString(CultureInfo.InvariantCulture);
}
