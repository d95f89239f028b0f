using System.Collections;
using System.Collections.Concurrent;
using System.Reflection;

namespace IronKeep.Service.Basics;

/// <summary>Refuses bodies with a null inside a list or a map, and texts that are no Unicode: the serialiser looks at neither.</summary>
internal static class NoNulls
{
    private const int Deepest = 8;
    private static readonly ConcurrentDictionary<Type, PropertyInfo[]> Known = new();

    public static ValueTask<object?> RefuseAsync(EndpointFilterInvocationContext context, EndpointFilterDelegate next)
    {
        foreach (var argument in context.Arguments)
        {
            var problem = argument is string text
                ? IsUnicode(text)
                    ? null
                    : "a text"
                : argument?.GetType().Namespace == "IronKeep.Contracts"
                    ? Wrong(argument, "the body", 0)
                    : null;
            if (problem is not null)
                return ValueTask.FromResult<object?>(
                    Problems.Invalid($"{problem} is null, or holds letters that are no Unicode; leave it out, or write it as UTF-8")
                );
        }
        return next(context);
    }

    private static string? Wrong(object value, string name, int depth)
    {
        if (depth > Deepest)
            return null;
        if (value is string text)
            return IsUnicode(text) ? null : name;
        if (value is IDictionary map)
            return map
                .Values.Cast<object?>()
                .Concat(map.Keys.Cast<object?>())
                .Select(v => v is null ? $"a value in {name}" : Wrong(v, name, depth + 1))
                .FirstOrDefault(w => w is not null);
        if (value is IEnumerable list)
            return list.Cast<object?>()
                .Select(v => v is null ? $"an entry of {name}" : Wrong(v, name, depth + 1))
                .FirstOrDefault(w => w is not null);
        if (value.GetType() is not { Namespace: "IronKeep.Contracts" } type)
            return null;
        return Known
            .GetOrAdd(type, t => [.. t.GetProperties().Where(p => p.GetIndexParameters().Length == 0)])
            .Select(p => p.GetValue(value) is { } inside ? Wrong(inside, char.ToLowerInvariant(p.Name[0]) + p.Name[1..], depth + 1) : null)
            .FirstOrDefault(w => w is not null);
    }

    private static bool IsUnicode(string text)
    {
        for (var i = 0; i < text.Length; i++)
        {
            if (!char.IsSurrogate(text[i]))
                continue;
            if (i + 1 >= text.Length || !char.IsSurrogatePair(text, i))
                return false;
            i++;
        }
        return true;
    }
}
