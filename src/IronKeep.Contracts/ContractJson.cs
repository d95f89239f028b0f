using System.Text.Json;
using System.Text.Json.Serialization;
using IronKeep.Core.Charters;
using IronKeep.Core.Dated;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Machines;
using IronKeep.Core.Reports;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;

namespace IronKeep.Contracts;

/// <summary>
/// How the API's bodies are written: camelCase, unknown members refused, numbers as numbers, enums as words, times as RFC 3339 in UTC.
/// </summary>
public static class ContractJson
{
    public static JsonSerializerOptions Options { get; } = Apply(new JsonSerializerOptions(JsonSerializerDefaults.Web));

    public static JsonSerializerOptions Apply(JsonSerializerOptions options)
    {
        options.NumberHandling = JsonNumberHandling.Strict;
        options.UnmappedMemberHandling = JsonUnmappedMemberHandling.Disallow;
        options.RespectNullableAnnotations = true;
        options.RespectRequiredConstructorParameters = true;
        Word<FindingState>();
        Word<Topic>();
        Word<ChangeKind>();
        Word<ChannelKind>();
        Word<ReportPeriod>();
        Word<CopyKind>();
        Word<FindingKind>();
        Word<Verdict>();
        Word<ActorKind>();
        Word<AlertClass>();
        Word<Severity>();
        Word<AlertDeedKind>();
        Word<AlertState>();
        Word<CheckInState>();
        Word<CopyState>();
        Word<EvidenceSource>();
        Word<FailureClass>();
        Word<LogList>();
        Word<LogSeverity>();
        Word<Outcome>();
        Word<RunKind>();
        Word<RunState>();
        Word<SubjectKind>();
        Word<DutyGrouping>();
        Word<AgentState>();
        Word<Coverage>();
        return options;

        void Word<T>()
            where T : struct, Enum =>
            options.Converters.Add(new JsonStringEnumConverter<T>(JsonNamingPolicy.KebabCaseLower, allowIntegerValues: false));
    }
}

/// <summary>One page of a list; <paramref name="Next"/> is the cursor of the page after it, or null at the end.</summary>
public sealed record Page<T>(IReadOnlyList<T> Items, string? Next);
