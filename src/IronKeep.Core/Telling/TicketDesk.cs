using System.Collections.Immutable;
using System.Net;
using System.Text.Encodings.Web;
using System.Text.Json;

namespace IronKeep.Core.Telling;

/// <summary>
/// An outside desk in which alerts are tickets: what is asked of it when one opens, goes on and is over, and where in its answer the
/// ticket's reference stands. The host is fixed; fields fill in no more than paths, headers and bodies.
/// </summary>
public sealed record TicketDesk(string Address, DeskCall Opens, string Reference)
{
    public DeskCall? Updates { get; init; }
    public DeskCall? Closes { get; init; }

    /// <summary>Name and value; the value can have fields, the secret among them.</summary>
    public ImmutableArray<(string Name, Template Value)> Headers { get; init; } = [];

    /// <summary>The page of a ticket for people; null: nobody is linked to it.</summary>
    public Template? Page { get; init; }

    /// <summary>What the bodies are: JSON unless a header says otherwise.</summary>
    public string ContentType =>
        Headers.FirstOrDefault(h => h.Name.Equals("Content-Type", StringComparison.OrdinalIgnoreCase)).Value?.Text ?? "application/json";

    /// <summary>How a value is written so that it cannot end the text it stands in.</summary>
    public Func<string, string> BodyEscape =>
        ContentType.Contains("json", StringComparison.OrdinalIgnoreCase) ? JsonText
        : ContentType.Contains("xml", StringComparison.OrdinalIgnoreCase) ? WebUtility.HtmlEncode!
        : ContentType.Contains("form", StringComparison.OrdinalIgnoreCase) ? Uri.EscapeDataString
        : Plain;

    public bool TakesJson => BodyEscape == JsonText;

    /// <summary>As within a JSON string.</summary>
    public static string JsonText(string value) => JsonEncodedText.Encode(value, JavaScriptEncoder.UnsafeRelaxedJsonEscaping).ToString();

    /// <summary>As in a header: one line.</summary>
    public static string Header(string value) => string.Concat(value.Select(c => char.IsControl(c) ? ' ' : c));

    private static string Plain(string value) => value;
}

/// <summary>One request: a method, a path below the desk's address, and a body.</summary>
public sealed record DeskCall(string Method, Template Path, Template? Body);

/// <summary>What templates of a desk can name.</summary>
public static class TicketFields
{
    /// <summary>Each field with whether it is always there.</summary>
    public static ImmutableSortedDictionary<string, bool> Of { get; } =
        new Dictionary<string, bool>
        {
            ["title"] = true,
            ["text"] = true,
            ["sentence"] = true,
            ["remedy"] = true,
            ["class"] = true,
            ["severity"] = true,
            ["subject"] = true,
            ["keep"] = true,
            ["alert"] = true,
            ["times"] = true,
            ["since"] = true,
            ["key"] = true,
            ["job"] = false,
            ["machine"] = false,
            ["store"] = false,
            ["run"] = false,
        }.ToImmutableSortedDictionary();

    /// <summary>Once the ticket is there, its reference too.</summary>
    public static ImmutableSortedDictionary<string, bool> WithReference { get; } = Of.Add("reference", true);

    /// <summary>In headers, what the token's file holds.</summary>
    public static ImmutableSortedDictionary<string, bool> WithSecret { get; } = Of.Add("secret", true);
}
