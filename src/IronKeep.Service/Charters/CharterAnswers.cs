using System.Collections.Immutable;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Service.Basics;
using Microsoft.AspNetCore.Http.HttpResults;

namespace IronKeep.Service.Charters;

/// <summary>Charters, and what differs between two, as the API gives them.</summary>
public static class CharterAnswers
{
    public static ProblemHttpResult Mistaken(CharterReading reading) =>
        Problems.Of(
            StatusCodes.Status400BadRequest,
            "Not understood",
            $"the charter has {Counted.Of(reading.Mistakes.Length, "mistake")}; the first is in line {reading.Mistakes[0].Line}: "
                + $"{reading.Mistakes[0].Message}",
            new Dictionary<string, object?> { ["mistakes"] = ToAnswers(reading.Mistakes) }
        );

    public static IReadOnlyList<MistakeAnswer> ToAnswers(ImmutableArray<Mistake> mistakes) =>
        [.. mistakes.Select(m => new MistakeAnswer(m.Line, m.Column, m.About, m.Message))];

    public static IReadOnlyList<CharterChangeAnswer> ToAnswers(ImmutableArray<CharterChange> changes) =>
        [
            .. changes.Select(c => new CharterChangeAnswer(
                c.Kind,
                c.Object,
                c.Name,
                [.. c.Fields.Select(f => new FieldChangeAnswer(f.Field, f.Before, f.After))]
            )),
        ];
}
