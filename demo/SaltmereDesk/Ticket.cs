using System.Text.Json;
using System.Text.Json.Serialization;

namespace IronKeep.Demo.Desk;

/// <summary>What the desk is asked to open.</summary>
internal sealed record Opening(string Title, string Text, string Urgency, string Since);

/// <summary>The reference of a ticket that was opened.</summary>
internal sealed record Opened(string Number);

/// <summary>A line more in a ticket.</summary>
internal sealed record Note(string Text);

/// <summary>How a ticket stands from now on: "open" or "done".</summary>
internal sealed record Standing(string State, string Text);

/// <summary>One ticket with what was said of it later. Key: by which the same request is known again.</summary>
internal sealed record Ticket(int Number, string Key, Opening What, string State, IReadOnlyList<string> Notes);

[JsonSourceGenerationOptions(JsonSerializerDefaults.Web)]
[JsonSerializable(typeof(List<Ticket>))]
[JsonSerializable(typeof(Opening))]
[JsonSerializable(typeof(Opened))]
[JsonSerializable(typeof(Note))]
[JsonSerializable(typeof(Standing))]
internal sealed partial class DeskJson : JsonSerializerContext;
