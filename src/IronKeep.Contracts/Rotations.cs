namespace IronKeep.Contracts;

/// <summary>A number by which a ready scheme is made larger or smaller, with what it usually is and its range.</summary>
public sealed record SchemeNumberAnswer(string Name, string Words, int Usual, int Least, int Most);

/// <summary>A discipline of rotation media that is ready to start from.</summary>
public sealed record SchemeAnswer(string Name, string Title, string Words, IReadOnlyList<SchemeNumberAnswer> Numbers);

/// <summary>
/// The rotation set that is wanted of a ready scheme: its name, when a night's run begins (local, "20:00" when absent), the first night
/// (YYYY-MM-DD; absent: tonight), and numbers that are not the usual.
/// </summary>
public sealed record SchemeRequest(
    string Set,
    string? Start = null,
    string? First = null,
    IReadOnlyDictionary<string, int>? Numbers = null
);

/// <summary>A group of a set to come: which nights it takes, its media, and how long each is protected and filled.</summary>
public sealed record SchemeGroupAnswer(string Group, string Serves, IReadOnlyList<string> Media, string ProtectedFor, string FillWindow);

/// <summary>
/// What a ready scheme would be: how many media it needs, and what they hold at every moment once each has had its turn: a night at least
/// so many days back, and at least so many nights that can be restored. Mistakes stand alone; revision is the charter's that it was looked
/// at beside.
/// </summary>
public sealed record SchemePlayAnswer(
    long Revision,
    IReadOnlyList<string> Mistakes,
    int Media,
    int ReachDays,
    int Points,
    string Yaml,
    IReadOnlyList<SchemeGroupAnswer> Groups,
    IReadOnlyList<NightAnswer> Nights
);
