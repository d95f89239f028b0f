using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Hearing;

/// <summary>Says of a watched job that its log is not heard, and that it is again.</summary>
public sealed class UnreadLogs(CharterInForce inForce, AlertBook alerts, IOptions<ServiceSettings> settings)
{
    /// <summary>What is in the way (null: nothing), where the agent of a machine reads the log or (null) the service itself.</summary>
    public Task TellAsync(string job, string? problem, string? machine)
    {
        if (!inForce.Charter.Jobs.TryGetValue(job, out var declared))
            return Task.CompletedTask;
        var subject = Subject.OfJob(job, Charter.MachineOf(declared, settings.Value.Machine));
        return problem is null
            ? alerts.CloseAsync(subject, [AlertClass.Unread], CancellationToken.None)
            : alerts.RaiseAsync(
                new Matter(
                    subject,
                    AlertClass.Unread,
                    $"the log of {job} is not heard{(machine is null ? "" : $" on {machine}")}: {problem}",
                    $"Give {(machine is null ? "the service" : $"the agent of {machine}")} the right to read it, or mend its path in the "
                        + "charter. Until then nobody hears of this job by its log."
                )
                {
                    Once = true,
                },
                CancellationToken.None
            );
    }
}
