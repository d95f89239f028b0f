using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Stores.Posix;

namespace IronKeep.Service.Charters;

/// <summary>
/// Rules about places that need the file system: a source and a store must not contain each other, in any direction and through
/// links, and two stores must not share a folder. Source: docs/semantics.md, section 8 (Places and safety).
/// </summary>
public static class PlaceRules
{
    /// <summary>The first reason not to take these paths into that store, or null.</summary>
    public static string? Unsafe(JobDefinition job, IEnumerable<StoreDefinition> stores)
    {
        foreach (var take in job.Takes)
        {
            var source = RealPaths.OfExistingPart(take);
            // What others write into a store of dated files may be taken like any data.
            foreach (var store in stores.Where(s => s.LocalFolder is not null && s.Dated is null))
            {
                var folder = RealPaths.OfExistingPart(store.Folder);
                if (RealPaths.Contains(source, folder))
                    return $"job {job.Name} takes {Told(take, source)}, which contains store {store.Name} at {Told(store.Folder, folder)}: "
                        + $"the backup would swallow its own store; take a narrower folder or move the store";
                if (RealPaths.Contains(folder, source))
                    return $"job {job.Name} takes {Told(take, source)}, which lies inside store "
                        + $"{store.Name}{(job.Into.Contains(store.Name) ? "" : ", another job's store,")} at {Told(store.Folder, folder)}; "
                        + $"take data, not a store";
            }
        }
        return null;
    }

    /// <summary>Every conflict in a charter, at the place of the object in the text. A null machine looks at paths alone.</summary>
    public static IEnumerable<Mistake> Check(CharterReading reading, string? machine)
    {
        var charter = reading.Charter!;
        // Dated files that cannot be moved can be looked after all the same.
        foreach (var store in charter.Stores.Values.Where(s => s.LocalFolder is not null && s.Dated is null))
            if (RealPaths.WhyNotWritable(store.Folder) is { } not)
                yield return At(
                    $"store {store.Name}",
                    $"store {store.Name} cannot be written: {not}; give the service the right to, or choose another folder"
                );
        // The paths of another machine are not these.
        foreach (var job in charter.Placed.All.Where(j => machine is null || j.Watched || j.Machine == machine))
            if (Unsafe(job, charter.Stores.Values) is { } why)
                yield return At($"job {job.Name}", why);
        var stores = charter
            .Stores.Values.Where(s => s.LocalFolder is not null)
            .Select(s => (s.Name, s.Folder, Real: RealPaths.OfExistingPart(s.Folder)))
            .ToList();
        for (var i = 0; i < stores.Count; i++)
        for (var j = i + 1; j < stores.Count; j++)
            if (RealPaths.Contains(stores[i].Real, stores[j].Real) || RealPaths.Contains(stores[j].Real, stores[i].Real))
                yield return At(
                    $"store {stores[j].Name}",
                    $"stores {stores[i].Name} ({stores[i].Folder}) and {stores[j].Name} ({stores[j].Folder}) share a folder; give each its "
                        + $"own"
                );

        Mistake At(string about, string why)
        {
            var (line, column) = reading.Places.GetValueOrDefault(about);
            return new Mistake(line, column, about, why);
        }
    }

    /// <summary>What is no mistake, because it may come to be, and should be looked at: sources that are not there.</summary>
    public static IEnumerable<Mistake> Notes(CharterReading reading)
    {
        if (reading.Charter is not { } charter)
            yield break;
        foreach (var note in reading.Notes)
            yield return note;
        foreach (var job in charter.Jobs.Values.Where(j => !charter.Placed.Named(j.Name).Any()))
        {
            var (line, column) = reading.Places.GetValueOrDefault($"job {job.Name}");
            yield return new Mistake(
                line,
                column,
                $"job {job.Name}",
                $"is on no machine now: {job.Selection.Words(charter.Own)} selects none"
            );
        }
        // The folders of other machines are not to be seen from here.
        foreach (var job in charter.Placed.At(charter.Own).Where(j => !j.Watched))
        {
            var (line, column) = reading.Places.GetValueOrDefault($"job {job.Name}");
            foreach (var take in job.Takes.Where(t => RealPaths.Of(t) is null))
                yield return new Mistake(
                    line,
                    column,
                    $"job {job.Name}",
                    $"{take} does not exist now, or cannot be reached; a run that finds it so fails"
                );
        }
    }

    private static string Told(string path, string real) => path == real ? path : $"{path} (which leads to {real})";
}
