using System.Text.Json;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;
using IronKeep.Agent.Hearing;
using IronKeep.Contracts;

namespace IronKeep.Agent;

/// <summary>How the agent's own files and what it says are written; made when it is built.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(Joined))]
[JsonSerializable(typeof(Contact))]
[JsonSerializable(typeof(StandingOrders))]
[JsonSerializable(typeof(JournalEntry))]
[JsonSerializable(typeof(HeardJobs))]
[JsonSerializable(typeof(HeardReport))]
[JsonSerializable(typeof(KeptPlace))]
[JsonSerializable(typeof(LeftReport))]
[JsonSerializable(typeof(IReadOnlyList<KeptServiceWords>))]
[JsonSerializable(typeof(Shown))]
[JsonSerializable(typeof(Refusal))]
internal sealed partial class AgentContext : JsonSerializerContext;

internal static class AgentJson
{
    private static readonly JsonSerializerOptions Options = new(ContractJson.Options)
    {
        TypeInfoResolver = JsonTypeInfoResolver.Combine(ContractContext.Default, AgentContext.Default),
        // The service may be newer than this agent.
        UnmappedMemberHandling = JsonUnmappedMemberHandling.Skip,
        WriteIndented = true,
    };

    public static string Write<T>(T value) => JsonSerializer.Serialize(value, Of<T>());

    /// <summary>Reads a body; anything that is not one is <see cref="JsonException"/>.</summary>
    public static T Read<T>(string text) => JsonSerializer.Deserialize(text, Of<T>()) ?? throw new JsonException("it is empty");

    private static JsonTypeInfo<T> Of<T>() => (JsonTypeInfo<T>)Options.GetTypeInfo(typeof(T));
}

/// <summary>What of a refusal is shown (RFC 9457).</summary>
internal sealed record Refusal(string? Detail);
