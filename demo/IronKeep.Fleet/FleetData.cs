namespace IronKeep.Fleet;

/// <summary>The files of a machine of the fleet: made once from the seed, and a little otherwise with each cycle.</summary>
internal sealed class FleetData(string folder, string machine, Temper temper, int seed)
{
    private const string Gone = ".gone";

    /// <summary>Makes what is not there yet. What was put aside comes back.</summary>
    public void Make()
    {
        Return();
        Directory.CreateDirectory(folder);
        var random = Temper.Random(machine, seed, 1);
        for (var file = 0; file < temper.Files; file++)
        {
            var bytes = new byte[temper.FileBytes / 2 + random.Next(temper.FileBytes)];
            random.NextBytes(bytes);
            var path = PathOf(file);
            if (File.Exists(path))
                continue;
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            File.WriteAllBytes(path, bytes);
        }
    }

    /// <summary>Writes one file anew, as a day's work would.</summary>
    public void Change(int cycle)
    {
        if (!Directory.Exists(folder))
            return;
        var random = Temper.Random(machine, seed, 2 + cycle);
        var bytes = new byte[temper.FileBytes];
        random.NextBytes(bytes);
        File.WriteAllBytes(PathOf(random.Next(temper.Files)), bytes);
    }

    public void PutAside()
    {
        if (Directory.Exists(folder))
            Directory.Move(folder, folder + Gone);
    }

    public void Return()
    {
        if (Directory.Exists(folder + Gone))
            Directory.Move(folder + Gone, folder);
    }

    private string PathOf(int file) => Path.Combine(folder, $"week-{file / 7 + 1}", $"count-{file + 1}.dat");
}
