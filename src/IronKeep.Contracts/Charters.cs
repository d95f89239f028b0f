using IronKeep.Core.Charters;

namespace IronKeep.Contracts;

/// <summary>A charter's text (YAML).</summary>
public sealed record CharterText(string Yaml);

/// <summary>The charter in force; revision 0 is the empty charter of a new service.</summary>
public sealed record CharterAnswer(long Revision, DateTimeOffset? AppliedAt, string? By, string Yaml);

/// <summary>One mistake: line and column from 1, what it is about, and a sentence with the way out.</summary>
public sealed record MistakeAnswer(int Line, int Column, string About, string Message);

/// <summary>What a check found; well when there are no mistakes.</summary>
public sealed record CharterCheckAnswer(bool Well, IReadOnlyList<MistakeAnswer> Mistakes)
{
    /// <summary>What is no mistake and should be looked at all the same: a source that is not there, say.</summary>
    public required IReadOnlyList<MistakeAnswer> Notes { get; init; }
}

/// <summary>One field that differs; null where it is absent.</summary>
public sealed record FieldChangeAnswer(string Field, string? Before, string? After);

/// <summary>One object that differs. Change is added, removed or changed.</summary>
public sealed record CharterChangeAnswer(ChangeKind Change, string Object, string Name, IReadOnlyList<FieldChangeAnswer> Fields);

/// <summary>
/// What a charter changes against the one in force; the revision is the one compared with, or the new one after applying. Consequences say
/// what it means for copies that are there; where there are any, applying asks for confirm=true.
/// </summary>
public sealed record CharterDiffAnswer(long Revision, IReadOnlyList<CharterChangeAnswer> Changes, IReadOnlyList<string> Consequences)
{
    /// <summary>Which jobs change on which machines.</summary>
    public IReadOnlyList<ReachAnswer> Reach { get; init; } = [];
}

/// <summary>
/// What happens to a job on machines, those together to which the same happens: the first of them and how many they are, for a changed one
/// the values that differ there, and how many copies the policy would then let go (null: there are too many to judge while one waits).
/// </summary>
public sealed record ReachAnswer(
    ChangeKind Change,
    string Job,
    IReadOnlyList<string> Machines,
    int Count,
    IReadOnlyList<FieldChangeAnswer> Fields,
    int? LetsGo
);

/// <summary>
/// One key of a charter's language: whether it takes a list, the kind of object that its values name, and the words that it takes where
/// those are few.
/// </summary>
public sealed record CharterKeyAnswer(string Key, bool List, string? Of, IReadOnlyList<string> Choices);

/// <summary>The keys of one kind of object, and the section that it stands in (null: the top of the charter).</summary>
public sealed record CharterKindAnswer(string Kind, string? Section, IReadOnlyList<CharterKeyAnswer> Keys);

/// <summary>A folder of the service's machine, with the folders in it; truncated when there are more.</summary>
public sealed record MachineFolderAnswer(string Path, string? Above, IReadOnlyList<string> Folders, bool Truncated);
