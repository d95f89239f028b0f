using System.Collections.Immutable;
using System.Text;
using System.Text.RegularExpressions;
using IronKeep.Core.Quantities;

namespace IronKeep.Core.Telling;

/// <summary>
/// Text with fields in braces that are filled in when it is used: <c>{title}</c>, or <c>{run else none}</c> for a field that is not always
/// there. All other braces stand for themselves, so that JSON can be written as it is.
/// </summary>
public sealed partial class Template
{
    private readonly ImmutableArray<Part> parts;

    private Template(string text, ImmutableArray<Part> parts) => (Text, this.parts) = (text, parts);

    /// <summary>As it was written.</summary>
    public string Text { get; }

    /// <summary>The names of the fields in it.</summary>
    public IEnumerable<string> Fields => parts.Select(p => p.Field).OfType<string>().Distinct();

    /// <summary>
    /// Reads a template of fields by name, each with whether it is always there. A field that nobody knows, one that can be missing and
    /// says nothing in its place, and what looks like a field and is none are told as a problem.
    /// </summary>
    public static (Template? Template, string? Problem) Read(string text, IReadOnlyDictionary<string, bool> fields)
    {
        var parts = ImmutableArray.CreateBuilder<Part>();
        var from = 0;
        foreach (Match match in Field().Matches(text))
        {
            var name = match.Groups["name"].Value;
            if (!fields.TryGetValue(name, out var always))
            {
                var near = Nearest.To(name, [.. fields.Keys]);
                return (
                    null,
                    $"there is no field {{{name}}}; "
                        + (near is null ? $"the fields are {string.Join(", ", fields.Keys.Order())}" : $"did you mean {{{near}}}?")
                );
            }
            var instead = match.Groups["else"] is { Success: true } other ? other.Value : null;
            if (!always && instead is null)
                return (null, $"{{{name}}} is not always there; say what stands in its place, as in {{{name} else none}}");
            if (match.Index > from)
                parts.Add(new Part(null, text[from..match.Index]));
            parts.Add(new Part(name, instead ?? ""));
            from = match.Index + match.Length;
        }
        if (from < text.Length)
            parts.Add(new Part(null, text[from..]));
        foreach (var part in parts.Where(p => p.Field is null))
            if (Almost().Match(part.Text) is { Success: true } almost)
                return (null, $"'{almost.Value}' looks like a field and is none; write it like {{title}} or {{run else none}}");
        return (new Template(text, parts.ToImmutable()), null);
    }

    /// <summary>
    /// Filled in: each value and what stands in its place goes through <paramref name="escape"/>, the text around it does not.
    /// </summary>
    public string Fill(IReadOnlyDictionary<string, string?> values, Func<string, string> escape)
    {
        var text = new StringBuilder();
        foreach (var part in parts)
            text.Append(
                part.Field is null ? part.Text
                : values.GetValueOrDefault(part.Field) is { Length: > 0 } value ? escape(value)
                : escape(part.Text)
            );
        return text.ToString();
    }

    public override string ToString() => Text;

    /// <summary>Text, or a field with the text in its place where it has no value.</summary>
    private readonly record struct Part(string? Field, string Text);

    [GeneratedRegex(@"\{(?<name>[a-z][a-z-]*)(?: else (?<else>[^{}]*))?\}", RegexOptions.CultureInvariant)]
    private static partial Regex Field();

    [GeneratedRegex(@"\{\s*[A-Za-z][\w \-]*\}", RegexOptions.CultureInvariant)]
    private static partial Regex Almost();
}
