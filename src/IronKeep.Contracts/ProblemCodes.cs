namespace IronKeep.Contracts;

/// <summary>
/// The codes that a refusal carries where the way out depends on what one asks with, and the names of its facts (all text).
/// A refusal without a code says its way out in its detail.
/// </summary>
public static class ProblemCodes
{
    /// <summary>There is nothing of this kind by this name. Facts: kind, name.</summary>
    public const string NotThere = "not-there";

    /// <summary>It is in several stores, and none was named. Facts: kind, name, stores.</summary>
    public const string WhichStore = "which-store";

    /// <summary>It is on several machines, and none was named. Facts: kind, name, machines.</summary>
    public const string WhichMachine = "which-machine";

    /// <summary>The job is carried out by the service itself, so nobody reports about it. Facts: kind, name.</summary>
    public const string NotWatched = "not-watched";

    /// <summary>Nobody is signed in.</summary>
    public const string SignInNeeded = "sign-in-needed";

    /// <summary>The page is out of date: its guard against foreign forms is missing or old.</summary>
    public const string PageOutOfDate = "page-out-of-date";

    /// <summary>It was to be made, and is there. Facts: kind, name.</summary>
    public const string ExistsAlready = "exists-already";

    /// <summary>It was changed by somebody since it was read, or not read at all. Facts: kind, name.</summary>
    public const string ChangedMeanwhile = "changed-meanwhile";

    /// <summary>The date is further away than is reckoned here. Facts: days.</summary>
    public const string TooFarAhead = "too-far-ahead";

    public const string Kind = "kind";
    public const string Name = "name";
    public const string Stores = "stores";
    public const string Machines = "machines";
    public const string Days = "days";
}
