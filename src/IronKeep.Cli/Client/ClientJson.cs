using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;
using IronKeep.Cli.Commands;
using IronKeep.Cli.Rescuing;
using IronKeep.Cli.Trying;
using IronKeep.Cli.Wrapping;
using IronKeep.Contracts;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;

namespace IronKeep.Cli.Client;

/// <summary>
/// How the client reads and writes JSON. What it takes for that is made when the client is built, so that it starts at once; a type that is
/// not named in <see cref="ClientContext"/> or <see cref="ContractContext"/> is refused. An answer may have members that this client does
/// not know yet: the service may be newer.
/// </summary>
internal static class ClientJson
{
    public static JsonSerializerOptions Options { get; } =
        new(ContractJson.Options)
        {
            UnmappedMemberHandling = JsonUnmappedMemberHandling.Skip,
            TypeInfoResolver = JsonTypeInfoResolver.Combine(ContractContext.Default, ClientContext.Default),
        };

    /// <summary>For people: indented, letters as they are.</summary>
    public static JsonSerializerOptions Pretty { get; } =
        new(Options) { WriteIndented = true, Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    public static JsonTypeInfo<T> Of<T>(JsonSerializerOptions? options = null) =>
        (JsonTypeInfo<T>)(options ?? Options).GetTypeInfo(typeof(T));
}

[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(Page<AlertAnswer>))]
[JsonSerializable(typeof(List<AlertAnswer>))]
[JsonSerializable(typeof(Page<CopyAnswer>))]
[JsonSerializable(typeof(List<CopyAnswer>))]
[JsonSerializable(typeof(Page<RunAnswer>))]
[JsonSerializable(typeof(List<RunAnswer>))]
[JsonSerializable(typeof(IReadOnlyList<BrowserSession>))]
[JsonSerializable(typeof(IReadOnlyList<CalendarAddressAnswer>))]
[JsonSerializable(typeof(IReadOnlyList<ChannelAnswer>))]
[JsonSerializable(typeof(IReadOnlyList<DefinitionAnswer>))]
[JsonSerializable(typeof(IReadOnlyList<JobAnswer>))]
[JsonSerializable(typeof(IReadOnlyList<PersonAnswer>))]
[JsonSerializable(typeof(IReadOnlyList<RotationAnswer>))]
[JsonSerializable(typeof(IReadOnlyList<SchemeAnswer>))]
[JsonSerializable(typeof(IReadOnlyList<StoreAnswer>))]
[JsonSerializable(typeof(IReadOnlyList<StoreKeyAnswer>))]
[JsonSerializable(typeof(IReadOnlyList<TimetableEntry>))]
[JsonSerializable(typeof(IReadOnlyList<VersionAnswer>))]
[JsonSerializable(typeof(IEnumerable<StoreKeyAnswer>))]
[JsonSerializable(typeof(List<MistakeAnswer>))]
[JsonSerializable(typeof(List<RunLogLine>))]
[JsonSerializable(typeof(object))]
[JsonSerializable(typeof(Credentials))]
[JsonSerializable(typeof(Reported))]
[JsonSerializable(typeof(CheckReport))]
[JsonSerializable(typeof(RestoreReport))]
[JsonSerializable(typeof(IEnumerable<ListedCopy>))]
[JsonSerializable(typeof(IEnumerable<ListedEntry>))]
[JsonSerializable(typeof(IEnumerable<ListedPath>))]
[JsonSerializable(typeof(AdoptCommand.Answer), TypeInfoPropertyName = "Adopted")]
[JsonSerializable(typeof(TrySchedule.Answer), TypeInfoPropertyName = "TriedSchedule")]
[JsonSerializable(typeof(TryLog.Answer), TypeInfoPropertyName = "TriedLog")]
[JsonSerializable(typeof(TryRetention.Answer), TypeInfoPropertyName = "TriedRetention")]
[JsonSerializable(typeof(TryRotation.Answer), TypeInfoPropertyName = "TriedRotation")]
internal sealed partial class ClientContext : JsonSerializerContext;
