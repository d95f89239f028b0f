using System.Diagnostics.CodeAnalysis;
using System.Globalization;
using IronKeep.Contracts;
using Microsoft.AspNetCore.Http.HttpResults;

namespace IronKeep.Service.Basics;

/// <summary>Cursor paging over descending numbers: the cursor is the last number given.</summary>
public static class Paging
{
    public const int Most = 1000;

    public static bool TryRead(string? cursor, ref int limit, out long? before, [NotNullWhen(false)] out ProblemHttpResult? problem)
    {
        before = null;
        problem = null;
        if (limit is < 1 or > Most)
            problem = Problems.Invalid($"limit {limit} is out of range; use 1 to {Most}");
        else if (cursor is not null)
        {
            if (long.TryParse(cursor, NumberStyles.None, CultureInfo.InvariantCulture, out var value))
                before = value;
            else
                problem = Problems.Invalid($"cursor '{cursor}' is not one that this list gave; leave it out to begin at the start");
        }
        return problem is null;
    }

    /// <summary>A page from one row more than was asked for.</summary>
    public static Page<TAnswer> Page<TRow, TAnswer>(List<TRow> rows, int limit, Func<TRow, long> number, Func<TRow, TAnswer> answer)
    {
        var more = rows.Count > limit;
        var shown = more ? rows[..limit] : rows;
        return new Page<TAnswer>([.. shown.Select(answer)], more ? number(shown[^1]).ToString(CultureInfo.InvariantCulture) : null);
    }
}
