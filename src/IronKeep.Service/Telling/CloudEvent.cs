using System.Globalization;
using System.Text.Json.Nodes;
using IronKeep.Catalogue;

namespace IronKeep.Service.Telling;

/// <summary>A message as an event for programs: CloudEvents 1.0 in structured JSON mode.</summary>
internal static class CloudEvent
{
    public static string Of(Message telling, string machine) =>
        new JsonObject
        {
            ["specversion"] = "1.0",
            ["id"] = $"{telling.Id}",
            ["source"] = $"/ironkeep/{machine}",
            ["type"] = $"ironkeep.{telling.Type}",
            ["time"] = telling.MadeAt.ToDateTimeOffset().ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", CultureInfo.InvariantCulture),
            ["subject"] = telling.Subject,
            ["datacontenttype"] = "application/json",
            ["data"] = JsonNode.Parse(telling.Data),
        }.ToJsonString();
}
