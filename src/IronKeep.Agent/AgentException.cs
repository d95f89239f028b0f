namespace IronKeep.Agent;

/// <summary>
/// Why something cannot be done, with the exit code that says so; the message names the thing, the cause and the way out.
/// </summary>
internal sealed class AgentException(int exitCode, string message) : Exception(message)
{
    public int ExitCode => exitCode;
}
