using System.Collections.Immutable;
using System.Text.Json;
using IronKeep.Core.Telling;

namespace IronKeep.Core.Charters;

/// <summary>Reads what a channel says of an outside ticket desk, and tries its templates.</summary>
internal sealed class DeskReader(MapReader map, Action<CharterNode, string> wrong)
{
    /// <summary>The keys that go with a desk and with no other way to tell.</summary>
    public static readonly string[] Keys =
    [
        "headers",
        "opens",
        "open-body",
        "reference",
        "updates",
        "update-body",
        "closes",
        "close-body",
        "ticket-page",
    ];

    private static readonly string[] Methods = ["POST", "PUT", "PATCH"];

    public TicketDesk? Read(ScalarNode desk, bool secret)
    {
        if (!IsWebAddress(desk.Value) || desk.Value.Contains('{', StringComparison.Ordinal))
            wrong(
                desk,
                $"'{desk.Value}' is not the address of a desk; write https://host/path, and what differs from ticket to ticket into 'opens'"
            );
        var opens = Call("opens", "open-body", TicketFields.Of, "say how a ticket is opened: 'opens: POST /tickets'");
        var reference = map.Required("reference", "say where its answer holds the ticket's reference: 'reference: /ticket/number'");
        if (reference is not null && !IsReference(reference.Value))
            wrong(
                reference,
                $"'{reference.Value}' says nowhere; write a JSON pointer into the answer, as in /ticket/number, or the name of a header, "
                    + "as in Location"
            );
        var updates = Call("updates", "update-body", TicketFields.WithReference, null);
        var closes = Call("closes", "close-body", TicketFields.WithReference, null);
        var headers = Headers(secret);
        var page = map.Scalar("ticket-page");
        var pageTemplate = page is null ? null : Template(page, TicketFields.WithReference);
        if (page is not null && pageTemplate is not null && !IsWebAddress(Sample(pageTemplate, Uri.EscapeDataString)))
            wrong(page, $"'{page.Value}' is not the address of a page; write https://host/path/{{reference}}");
        else if (page is not null && page.Value.IndexOf('{', StringComparison.Ordinal) is > 0 and var at && !HasPath(page.Value[..at]))
            wrong(page, "the host of a page is written out; fields come after it, in its path");
        if (opens is null || reference is null)
            return null;
        var read = new TicketDesk(desk.Value.TrimEnd('/'), opens, reference.Value)
        {
            Updates = updates,
            Closes = closes,
            Headers = headers,
            Page = pageTemplate,
        };
        foreach (var (key, call) in new[] { ("open-body", opens), ("update-body", updates), ("close-body", closes) })
            if (call?.Body is { } body && read.TakesJson && NotJson(body) is { } problem)
                wrong(map.Any(key)!, $"once its fields are filled in this is not JSON: {problem}");
        return read;
    }

    private DeskCall? Call(string key, string bodyKey, IReadOnlyDictionary<string, bool> fields, string? remedy)
    {
        var node = remedy is null ? map.Scalar(key) : map.Required(key, remedy);
        var body = map.Scalar(bodyKey) is { } text ? Template(text, fields) : null;
        if (node is null)
        {
            if (body is not null && remedy is null)
                wrong(map.Any(bodyKey)!, $"'{bodyKey}' goes with '{key}'; add that, or take the line out");
            return null;
        }
        var space = node.Value.IndexOf(' ', StringComparison.Ordinal);
        var (method, path) = space < 0 ? (node.Value, "") : (node.Value[..space], node.Value[space..].Trim());
        if (!Methods.Contains(method) || !path.StartsWith('/') || path.StartsWith("//", StringComparison.Ordinal))
        {
            wrong(node, $"'{node.Value}' is not a request; write POST, PUT or PATCH and a path, as in POST /tickets");
            return null;
        }
        return Template(path, node, fields) is { } template ? new DeskCall(method, template, body) : null;
    }

    private ImmutableArray<(string, Template)> Headers(bool secret)
    {
        var headers = ImmutableArray.CreateBuilder<(string, Template)>();
        foreach (var node in map.Strings("headers") ?? [])
        {
            var colon = node.Value.IndexOf(':', StringComparison.Ordinal);
            var name = colon < 0 ? "" : node.Value[..colon];
            if (name.Length == 0 || !name.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_'))
            {
                wrong(node, $"'{node.Value}' is not a header; write its name, a colon and its value, as in X-Site: heron");
                continue;
            }
            var value = node.Value[(colon + 1)..].Trim();
            if (Template(value, node, TicketFields.WithSecret) is not { } template)
                continue;
            if (template.Fields.Contains("secret") && !secret)
                wrong(node, "{secret} stands for what the file under 'token-file' holds; name that file");
            if (value.Any(char.IsControl))
                wrong(node, $"the value of header {name} holds a line break or another control character; take it out");
            if (name.Equals("Content-Type", StringComparison.OrdinalIgnoreCase) && template.Fields.Any())
                wrong(node, "the content type is the same for all tickets; write it out");
            headers.Add((name, template));
        }
        return headers.ToImmutable();
    }

    private Template? Template(ScalarNode node, IReadOnlyDictionary<string, bool> fields) => Template(node.Value, node, fields);

    private Template? Template(string text, ScalarNode node, IReadOnlyDictionary<string, bool> fields)
    {
        var (template, problem) = Telling.Template.Read(text, fields);
        if (problem is not null)
            wrong(node, problem);
        return template;
    }

    /// <summary>With all fields there, and with none but those that always are: both must be JSON.</summary>
    private static string? NotJson(Template body)
    {
        foreach (var all in new[] { true, false })
            try
            {
                using var _ = JsonDocument.Parse(Sample(body, TicketDesk.JsonText, all));
            }
            catch (JsonException e)
            {
                return e.Message;
            }
        return null;
    }

    private static string Sample(Template template, Func<string, string> escape, bool all = true) =>
        template.Fill(template.Fields.Where(f => all || TicketFields.WithReference[f]).ToDictionary(f => f, string? (_) => "1"), escape);

    private static bool IsReference(string text) =>
        text.StartsWith('/') ? text.Length > 1 : text.All(c => char.IsAsciiLetterOrDigit(c) || c == '-');

    private static bool IsWebAddress(string text) =>
        Uri.TryCreate(text, UriKind.Absolute, out var uri) && uri is { Scheme: "http" or "https", UserInfo.Length: 0, Host.Length: > 0 };

    private static bool HasPath(string start) =>
        start.IndexOf("://", StringComparison.Ordinal) is > 0 and var at && start.IndexOf('/', at + 3) > 0;
}
