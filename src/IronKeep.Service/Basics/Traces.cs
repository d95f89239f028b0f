using System.Diagnostics;

namespace IronKeep.Service.Basics;

/// <summary>
/// The traces of what the service does, for whoever collects them. Nothing is traced while nobody does. What a trace says comes from the
/// charter or from a list of words, never from a path, a log line or a secret.
/// </summary>
public static class Traces
{
    /// <summary>The name of the source of traces, and of the figures that go with them.</summary>
    public const string Name = "IronKeep";
    public static readonly ActivitySource Source = new(Name);

    /// <summary>Begins a trace of its own, whatever the caller is in the middle of.</summary>
    public static Activity? Begin(string what, params ReadOnlySpan<(string Name, object? Value)> tags)
    {
        if (!Source.HasListeners())
            return null;
        var around = Activity.Current;
        Activity.Current = null;
        var begun = Source.StartActivity(what);
        if (begun is null)
            Activity.Current = around;
        foreach (var (name, value) in tags)
            begun?.SetTag("ironkeep." + name, value);
        return begun;
    }

    /// <summary>Says how it ended.</summary>
    /// <param name="problem">The class of what went wrong, as a word; null: nothing did.</param>
    public static void End(this Activity? trace, string? problem, params ReadOnlySpan<(string Name, object? Value)> tags)
    {
        if (trace is null)
            return;
        foreach (var (name, value) in tags)
            trace.SetTag("ironkeep." + name, value);
        trace.SetStatus(problem is null ? ActivityStatusCode.Ok : ActivityStatusCode.Error, problem);
        trace.Dispose();
    }
}
