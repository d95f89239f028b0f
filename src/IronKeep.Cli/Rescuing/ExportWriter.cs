using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Core.Quantities;
using IronKeep.Stores.Exports;
using IronKeep.Stores.Pooled;

namespace IronKeep.Cli.Rescuing;

/// <summary>Writes a copy to a tar archive or a bag.</summary>
internal static class ExportWriter
{
    public static int Write(
        PooledStore store,
        CopyRecord record,
        IReadOnlyList<string> paths,
        string? tar,
        string? bag,
        CancellationToken cancel
    )
    {
        if (tar is null == bag is null)
            throw new AnswerException(Root.NotUnderstood, "say what to write: --tar FILE or --bag FOLDER");
        if (bag is not null)
        {
            var (files, report) = Bag.Write(store, record, paths, bag, cancel);
            foreach (var problem in report.Problems)
                Show.Error($"{problem.Path}: {problem.Problem}");
            Show.Line(
                $"{Counted.Of(files, "file")} of copy {record.Id} in the bag {bag}; check it with 'cd {bag} && sha256sum -c "
                    + $"manifest-sha256.txt'"
            );
            return report.Problems.Count > 0 ? Root.Findings : Root.Done;
        }
        if (tar == "-")
        {
            using var output = Console.OpenStandardOutput();
            Archive.ToStream(store, record, paths, output, false, null, cancel);
            return Root.Done;
        }
        var (written, leftOut) = Archive.ToFile(store, record, paths, tar!, null, cancel);
        Show.Line(
            $"{Counted.Of(written, "entry", "entries")} of copy {record.Id} in "
                + $"{tar}{(leftOut > 0 ? $"; {Counted.Of(leftOut, "socket")} left out" : "")}"
        );
        return Root.Done;
    }
}
