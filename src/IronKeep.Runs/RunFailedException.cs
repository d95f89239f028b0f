using IronKeep.Core.Watching;

namespace IronKeep.Runs;

/// <summary>A run cannot go on. The class gives cause and remedy; the message names the thing.</summary>
public sealed class RunFailedException(FailureClass failure, string message, Exception? inner = null) : Exception(message, inner)
{
    public FailureClass Class { get; } = failure;
}

/// <summary>Where a run writes its log. Safe for several threads.</summary>
public delegate void RunLog(LogSeverity severity, string text);
