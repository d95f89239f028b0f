using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Core.Quantities;
using IronKeep.Stores.Exports;
using IronKeep.Stores.Pooled;

namespace IronKeep.Cli.Rescuing;

/// <summary>Writes a copy to a tar archive or a bag.</summary>
internal static class ExportWriter
{
    private const string Zstd = ".zst";

    public static int Write(PooledStore store, CopyRecord record, string? tar, string? bag, CancellationToken cancel)
    {
        if (tar is null == bag is null) throw new AnswerException(Root.NotUnderstood, "say what to write: --tar FILE or --bag FOLDER");
        if (bag is not null)
        {
            var (files, report) = Bag.Write(store, record, bag, cancel);
            foreach (var problem in report.Problems) Show.Error($"{problem.Path}: {problem.Problem}");
            Show.Line($"{Counted.Of(files, "file")} of copy {record.Id} in the bag {bag}; check it with 'cd {bag} && sha256sum -c manifest-sha256.txt'");
            return report.Problems.Count > 0 ? Root.Findings : Root.Done;
        }
        // Under a passing name until it is whole: half an archive must not look like one.
        var part = tar + ".part";
        var (written, leftOut) = tar == "-" ? Archive(Console.OpenStandardOutput(), false) : Archive(File.Create(part), tar!.EndsWith(Zstd, StringComparison.Ordinal));
        if (tar == "-") return Root.Done;
        File.Move(part, tar!, overwrite: true);
        Show.Line($"{Counted.Of(written, "entry", "entries")} of copy {record.Id} in {tar}{(leftOut > 0 ? $"; {Counted.Of(leftOut, "socket")} left out" : "")}");
        return Root.Done;

        (long, long) Archive(Stream output, bool compress)
        {
            using var file = output;
            using Stream into = compress ? new ZstdSharp.CompressionStream(output) : new BufferedStream(output, 1024 * 1024);
            return new PaxTar(into).Write(store, record, null, cancel);
        }
    }
}
