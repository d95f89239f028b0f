using System.Text.Json;
using System.Text.Json.Serialization;

namespace IronKeep.Contracts;

/// <summary>How the API's bodies are written: camelCase, unknown members refused, numbers as numbers, times as RFC 3339 in UTC.</summary>
public static class ContractJson
{
    public static JsonSerializerOptions Options { get; } = Apply(new JsonSerializerOptions(JsonSerializerDefaults.Web));

    public static JsonSerializerOptions Apply(JsonSerializerOptions options)
    {
        options.NumberHandling = JsonNumberHandling.Strict;
        options.UnmappedMemberHandling = JsonUnmappedMemberHandling.Disallow;
        options.RespectNullableAnnotations = true;
        options.RespectRequiredConstructorParameters = true;
        options.Converters.Add(new JsonStringEnumConverter(JsonNamingPolicy.KebabCaseLower, allowIntegerValues: false));
        return options;
    }
}

/// <summary>One page of a list; <paramref name="Next"/> is the cursor of the page after it, or null at the end.</summary>
public sealed record Page<T>(IReadOnlyList<T> Items, string? Next);
