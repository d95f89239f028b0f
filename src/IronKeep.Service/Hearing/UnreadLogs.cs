using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Hearing;

/// <summary>Says of a watched job that its log is not heard, and that it is again.</summary>
public sealed class UnreadLogs(CharterInForce inForce, AlertBook alerts)
{
    /// <summary>What is in the way (null: nothing), where the agent of the machine reads the log or the service itself.</summary>
    public Task TellAsync(string job, string machine, string? problem, bool isThere)
    {
        if (inForce.Charter.Placed.Find(job, machine) is null)
            return Task.CompletedTask;
        var subject = Subject.OfJob(job, machine);
        return problem is null
            ? alerts.CloseAsync(subject, [AlertClass.Unread], CancellationToken.None)
            : alerts.RaiseAsync(
                new Matter(
                    subject,
                    AlertClass.Unread,
                    $"the log of {job} is not heard{(isThere ? $" on {machine}" : "")}: {problem}",
                    $"Give {(isThere ? $"the agent of {machine}" : "the service")} the right to read it, or mend its path in the "
                        + "charter. Until then nobody hears of this job by its log."
                )
                {
                    Once = true,
                },
                CancellationToken.None
            );
    }
}
