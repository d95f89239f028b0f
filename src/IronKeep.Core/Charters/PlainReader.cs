using System.Collections.Immutable;
using IronKeep.Core.Chains;
using IronKeep.Core.Dated;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;

namespace IronKeep.Core.Charters;

/// <summary>Reads what a charter says of plain archives: of a store that keeps them, and of a job that makes partial ones.</summary>
internal static class PlainReader
{
    /// <summary>A file of an archive is not smaller: there would be more files than anybody can look through.</summary>
    private static readonly ByteSize LeastPiece = new(1_000_000);

    /// <summary>What a job says of partial copies.</summary>
    public static readonly ImmutableArray<string> OfPartials = ["partials", "full", "longest-chain", "oldest-full"];

    /// <summary>What such a store cannot say.</summary>
    private static readonly string[] NotPlain = ["key-file", "passphrase-file", "hash"];

    public static PlainArchives? Store(MapReader map, ValueReader read)
    {
        if (map.Scalar("layout")?.Value != "plain")
        {
            foreach (var key in CharterLanguage.PlainStore.Select(k => k.Key))
                if (map.Any(key) is { } odd)
                    read.Wrong(odd, $"'{key}' goes with 'layout: plain', a store of archives that tar reads; take the line out, or add it");
            return null;
        }
        foreach (var key in NotPlain)
            if (map.Any(key) is { } odd)
                read.Wrong(
                    odd,
                    $"'{key}' does not go with plain archives, which anybody can read; take the line out, or use 'layout: pooled'"
                );
        foreach (var key in new[] { "via", "on" })
            if (map.Any(key) is { } odd)
                read.Wrong(
                    odd,
                    $"'{key}' does not go with plain archives: the service writes them where it reaches them; take the line out"
                );
        var piece = read.Size(map.Scalar("piece-size"));
        if (piece is { } size && size.Bytes < LeastPiece.Bytes)
            read.Wrong(
                map.Scalar("piece-size")!,
                $"files of {size.ToExactText()} are too many to look through; write at least {LeastPiece.ToExactText()}"
            );
        return new PlainArchives(map.Scalar("compressed") is not { } compressed || read.Yes(compressed), piece);
    }

    public static PartialCopies? Partials(MapReader map, ValueReader read)
    {
        var (partials, full, longest, oldest) = (
            map.Scalar("partials"),
            map.Scalar("full"),
            map.Scalar("longest-chain"),
            map.Scalar("oldest-full")
        );
        if (partials is null)
        {
            foreach (var key in OfPartials)
                if (map.Any(key) is { } odd)
                    read.Wrong(
                        odd,
                        $"'{key}' says when the next full copy is made, and without 'partials' every copy is full; add "
                            + "'partials: incremental'"
                    );
            return null;
        }
        var kind = partials.Value switch
        {
            "incremental" => CopyKind.Incremental,
            "differential" => CopyKind.Differential,
            _ => (CopyKind?)null,
        };
        if (kind is null)
            read.Wrong(partials, $"'{partials.Value}' is no kind of partial copy; write incremental, or differential");
        if (full is null && longest is null && oldest is null)
            read.Wrong(
                partials,
                "says nothing of when the next full copy is made, and no chain should go on for ever; add 'full: first sun of month'"
            );
        var most = read.Number(longest, "a number of copies", 2, PartialCopies.MostInChain);
        var age = read.Span(oldest, atLeastOne: true);
        DayRule? days = null;
        if (full is not null)
        {
            (days, var problem) = ScheduleSentence.ReadDays(full.Value);
            if (problem is not null)
                read.Wrong(full, problem.Message);
        }
        return kind is null ? null : new PartialCopies(kind.Value, days, most, age);
    }
}
