using System.Collections.Immutable;
using IronKeep.Core.Quantities;
using IronKeep.Core.Reports;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;

namespace IronKeep.Core.Charters;

/// <summary>
/// One key that an object of a charter may have: whether it takes a list, the kind of object that its values name, and the words that it
/// takes where those are few.
/// </summary>
public sealed record CharterKey(string Key, bool IsList = false, string? Of = null)
{
    public ImmutableArray<string> Choices { get; init; } = [];
}

/// <summary>
/// The keys of a charter, by the kind of object. The readers know these and no others, and whatever offers keys to people (a form, an
/// editor, a completion) offers the same. Source: docs/charter.md.
/// </summary>
public static class CharterLanguage
{
    private static readonly string[] YesNo = ["yes", "no"];

    /// <summary>What can be told: each of the kinds, under one key.</summary>
    public const string Tellable = "channel, person or rota";

    /// <summary>What a job can say beside where it is; a group of jobs and a variant of one say the same.</summary>
    private static readonly ImmutableArray<CharterKey> JobValues =
    [
        Many("takes"),
        Many("leaves-out"),
        One("leaves-out-caches", YesNo),
        One("other-file-systems", YesNo),
        Many("into", of: "store"),
        One("compression"),
        One("partials", "incremental", "differential"),
        One("full"),
        One("longest-chain"),
        One("oldest-full"),
        One("watched", YesNo),
        Many("heard-by") with
        {
            Choices = Words<EvidenceSource>(),
        },
        Many("log"),
        Many("syslog"),
        Many("syslog-text"),
        One("log-rules") with
        {
            Of = "log-rules",
        },
        Many("leaves-copy-in", of: "store"),
        One("early"),
        One("note"),
        Many("streams", of: "step"),
        Many("before", of: "step"),
        One("until") with
        {
            Of = "step",
        },
        One("patience"),
        Many("still-at"),
        One("watches-service") with
        {
            Of = "step",
        },
        One("starts-service") with
        {
            Of = "step",
        },
        One("starts-at-most"),
        Many("after-success", of: "step"),
        Many("after-failure", of: "step"),
        Many("always-after", of: "step"),
        One("when"),
        One("after") with
        {
            Of = "job",
        },
        One("zone"),
        One("calendar") with
        {
            Of = "calendar",
        },
        One<WindowRule>("when-closed"),
        Many("quiet-hours"),
        One<WindowRule>("when-quiet"),
        One("spread"),
        One("importance"),
        Many("locks"),
        Many("needs"),
        One("policy") with
        {
            Of = "policy",
        },
        One("fresh-within"),
        One("start-limit"),
        One("run-limit"),
        One<CatchUp>("catch-up"),
        One("wait-after-return"),
        One("catch-up-gap"),
        One<Overlap>("overlap"),
        One("retries"),
        One("band"),
        One<PruneTime>("prune"),
        Many("tags"),
        Many("tells", of: Tellable),
        One<TellWhen>("tell-when"),
        One<Severity>("severity"),
        One("expect-size"),
        One("expect-change"),
        One("expect-growth"),
        One("expect-time"),
    ];

    private static readonly ImmutableDictionary<string, ImmutableArray<CharterKey>> Kinds = new Dictionary<
        string,
        ImmutableArray<CharterKey>
    >
    {
        [CharterFields.Settings] =
        [
            One("zone"),
            Many("tells", of: Tellable),
            One("duty-mail"),
            One("sign-of-life"),
            One("heartbeat-file"),
            One("heartbeat-every"),
            One("runs-at-once"),
            One("agent-lapses"),
            One("jobs-like") with
            {
                Of = "job-group",
            },
        ],
        ["machine"] =
        [
            One("runs-at-once"),
            One("importance"),
            Many("tags"),
            One("site"),
            One("owner"),
            Many("line"),
            One("silent-after"),
            One("read-over"),
            One("host-key"),
            One("login-key"),
            One("listed-in"),
            One("retired"),
            One("copies-until"),
            One("copies-owner"),
            One("decide-by"),
        ],
        ["line"] = [Many("machines", of: "machine"), One("runs-at-once"), Many("bandwidth")],
        ["calendar"] = [Many("closed")],
        ["store"] =
        [
            One("folder"),
            One("via", "agent"),
            One("on") with
            {
                Of = "machine",
            },
            One("layout", "pooled", "plain", "dated-files"),
            .. DatedStore,
            .. PlainStore,
            One("capacity"),
            One("reserve"),
            One("bin"),
            One("warn-below"),
            One("runs-at-once"),
            One("verify"),
            One("verify-budget"),
            One("verify-within"),
            One("reclaim"),
            One("key-file"),
            One("passphrase-file"),
            One("hash", "blake3", "sha-256"),
            One("host-key"),
            One("login-key"),
            One("upload-at-most"),
            One("download-at-most"),
        ],
        ["policy"] = [One("keep"), One("at-least"), One("zone"), Many("promises")],
        ["media-group"] = [One("serves"), Many("media"), One("protected-for"), One("fill-window"), One("run-length")],
        ["rotation-set"] =
        [
            One("start"),
            One("first"),
            One("zone"),
            One("calendar") with
            {
                Of = "calendar",
            },
            Many("groups", of: "media-group"),
        ],
        ["channel"] =
        [
            Many("mail-to"),
            One("mail-from"),
            One("server"),
            One<MailSecurity>("security"),
            One("user"),
            One("password-file"),
            One("pickup"),
            One("webhook"),
            One("webhook-file"),
            One("token-file"),
            One("sign-file"),
            One("syslog"),
            Many("command"),
            One("command-seconds"),
            One("desk"),
            Many("headers"),
            One("opens"),
            One("open-body"),
            One("reference"),
            One("updates"),
            One("update-body"),
            One("closes"),
            One("close-body"),
            One("ticket-page"),
        ],
        ["person"] = [Many("told-by", of: "channel"), One("mail"), Many("hours"), Many("away"), One("zone")],
        ["rota"] = [Many("members", of: "person"), One("changes"), One("first"), One("stand-in") with { Of = "person" }, One("zone")],
        ["route"] =
        [
            Many("severity") with
            {
                Choices = Words<Severity>(),
            },
            Many("class") with
            {
                Choices = Words<AlertClass>(),
            },
            Many("tags"),
            Many("jobs", of: "job"),
            Many("machines", of: "machine"),
            Many("stores", of: "store"),
            Many("tells", of: Tellable),
            One<TellWhen>("tell-when"),
            One("digest"),
            One("unseen-for"),
            Many("then-tells", of: Tellable),
        ],
        ["maintenance-window"] =
        [
            One("when"),
            One("lasts"),
            One("everything", YesNo),
            Many("tags"),
            Many("machines", of: "machine"),
            Many("stores", of: "store"),
            One("note"),
        ],
        ["cause"] = [One("cause"), One("remedy")],
        ["report"] =
        [
            One<ReportPeriod>("every"),
            Many("sites"),
            Many("owners"),
            Many("tags"),
            Many("machines", of: "machine"),
            Many("jobs", of: "job"),
            One("when"),
            Many("tells", of: Tellable),
        ],
        ["log-rules"] =
        [
            Many("begins"),
            Many("ends"),
            One("times"),
            One("zone"),
            Many("ok"),
            Many("warned"),
            Many("failed"),
            Many("ignores"),
            Many("figures"),
            One("exit-codes"),
            One("quiet-after"),
            Many("examples"),
        ],
        ["step"] = [Many("command"), One("as"), One("limit"), One("keeps-as"), One("note")],
        ["job-group"] = [.. JobValues.Where(k => k.Key is not ("watched" or "after" or "note"))],
        ["job"] = [Many("on", of: "machine"), Many("except", of: "machine"), One("like") with { Of = "job-group" }, .. JobValues],
        ["variant"] =
        [
            One("job") with
            {
                Of = "job",
            },
            Many("on", of: "machine"),
            .. JobValues.Where(k => k.Key is not ("watched" or "after")),
        ],
    }.ToImmutableDictionary();

    /// <summary>What only a store of plain archives can say.</summary>
    internal static ImmutableArray<CharterKey> PlainStore => [One("piece-size"), One("compressed", YesNo)];

    /// <summary>What only a store of dated files can say.</summary>
    internal static ImmutableArray<CharterKey> DatedStore => [One("name"), Many("kinds"), One("zone"), One("settled-after")];

    /// <summary>The keys of a kind of object in the order in which they are offered, or of the settings at the top of a charter.</summary>
    public static ImmutableArray<CharterKey> Of(string kind) => Kinds[kind];

    /// <summary>Their names alone, as the readers want them.</summary>
    internal static string[] Names(string kind) => [.. Of(kind).Select(k => k.Key)];

    private static CharterKey One(string key, params string[] choices) => new(key) { Choices = [.. choices] };

    private static CharterKey One<T>(string key)
        where T : struct, Enum => new(key) { Choices = Words<T>() };

    private static CharterKey Many(string key, string? of = null) => new(key, true, of);

    private static ImmutableArray<string> Words<T>()
        where T : struct, Enum => [.. Enum.GetValues<T>().Select(v => v.Word())];
}
