using IronKeep.Contracts;

namespace IronKeep.Cli.Client;

/// <summary>The way out of a refusal, in the words of this client: what the service cannot know, because others ask it otherwise.</summary>
internal static class WaysOut
{
    /// <summary>What to do about a refusal with this code and these facts, or null where its detail says it all.</summary>
    public static string? Of(string? code, IReadOnlyDictionary<string, string> facts)
    {
        var kind = facts.GetValueOrDefault(ProblemCodes.Kind, "");
        var name = facts.GetValueOrDefault(ProblemCodes.Name, "NAME");
        return code switch
        {
            ProblemCodes.NotThere => kind switch
            {
                "job" or "store" or "run" or "copy" or "alert" or "channel" or "session" => $"see 'ironkeep {kind} list'",
                "calendar address" => "see 'ironkeep timetable addresses'",
                "prune plan" => "make one with 'ironkeep prune plan JOB', and use the fingerprint that it prints",
                "token" => null,
                _ => "see 'ironkeep definition list'",
            },
            ProblemCodes.WhichStore when kind == "copy" => $"say which, as in {name}@{First(facts)}",
            ProblemCodes.WhichStore => $"say which, as in '--store {First(facts)}'",
            ProblemCodes.WhichMachine => $"say which, as in '--on {First(facts, ProblemCodes.Machines)}'",
            ProblemCodes.SignInNeeded => "sign in with 'ironkeep sign-in'",
            ProblemCodes.ExistsAlready => $"change it with 'ironkeep definition set {kind} {name}'",
            ProblemCodes.ChangedMeanwhile => "look at it again, and change what is there now",
            ProblemCodes.TooFarAhead => "see 'ironkeep forecast', which looks further",
            _ => null,
        };
    }

    private static string First(IReadOnlyDictionary<string, string> facts, string of = ProblemCodes.Stores) =>
        facts.GetValueOrDefault(of, "NAME").Split(',')[0];
}
