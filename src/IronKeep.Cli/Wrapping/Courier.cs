using System.Net;
using System.Net.Http.Json;
using IronKeep.Cli.Client;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Yaml;

namespace IronKeep.Cli.Wrapping;

/// <summary>
/// Brings reports to the service, and a job's rules from it: through a check-in address, as the person signed in, or by this machine's
/// agent.
/// </summary>
internal sealed class Courier : IDisposable
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);
    private readonly HttpClient http = new() { Timeout = Patience };

    public async Task<Delivery> SendAsync(Reported report)
    {
        try
        {
            if (report.Address is { } address)
            {
                var what = report.Request.State == CheckInState.Started ? "start" : "ended";
                using var answer = await http.PostAsync(
                    $"{address.TrimEnd('/')}/{(what == "start" ? what : $"{report.Request.ExitCode ?? 0}")}",
                    JsonContent.Create(report.Request, ClientJson.Of<CheckInRequest>())
                );
                if (answer.IsSuccessStatusCode)
                    return new Delivery();
                var said = (await answer.Content.ReadAsStringAsync()).Trim();
                return answer.StatusCode switch
                {
                    HttpStatusCode.NotFound => new Delivery(
                        "the check-in address is not in use; make a new one with 'ironkeep job address'"
                    ),
                    HttpStatusCode.BadRequest => new Delivery(said),
                    _ => new Delivery(said.Length > 0 ? said : $"it answered {(int)answer.StatusCode}", Waits: true),
                };
            }
            if (AgentDrop.Folder(report.Address, report.Url) is { } drop)
                return Spool.Leave(drop, report) is { } problem ? new Delivery(problem, Waits: true) : new Delivery();
            using var client = KeepClient.Open(report.Url);
            await client.PostAsync<CheckInAnswer>(
                $"jobs/{Uri.EscapeDataString(report.Job)}/check-ins{Query(report.On)}",
                report.Request,
                new CancellationTokenSource(Patience).Token
            );
            return new Delivery();
        }
        catch (AnswerException e)
        {
            // Who is not signed in can sign in; what is not there will not come.
            return new Delivery(
                e.Message,
                Waits: e.ExitCode == Root.Failed || e.Code is not (ProblemCodes.NotThere or ProblemCodes.NotWatched)
            );
        }
        catch (Exception e) when (e is UriFormatException or InvalidOperationException or NotSupportedException)
        {
            return new Delivery($"'{report.Address ?? report.Url}' is not an address of the service");
        }
        catch (Exception e) when (e is HttpRequestException or OperationCanceledException or IOException)
        {
            return new Delivery(
                e is OperationCanceledException ? $"the service did not answer within {Patience.TotalSeconds} s" : e.Message,
                Waits: true
            );
        }
    }

    /// <summary>The job's rules: of the service, or as they were when it was last asked; null when there are none.</summary>
    public async Task<LogRules?> RulesAsync(string job, string? address, string? url, string? on, string? folder)
    {
        // Kept in a folder of our own only: where others may write, they could put something in its place.
        var kept = folder is null
            ? null
            : Path.Combine(folder, $"{string.Concat(job.Where(c => char.IsAsciiLetterOrDigit(c) || c == '-'))}.rules");
        string? text = null;
        try
        {
            if (address is not null)
                text = await http.GetStringAsync($"{address.TrimEnd('/')}/rules");
            else if (AgentDrop.Folder(address, url) is { } drop)
                text = await File.ReadAllTextAsync(AgentDrop.RulesOf(drop, job));
            else
            {
                using var client = KeepClient.Open(url);
                using var within = new CancellationTokenSource(Patience);
                text = await client.GetTextAsync($"jobs/{Uri.EscapeDataString(job)}/log-rules{Query(on)}", within.Token);
            }
            if (kept is not null)
                await File.WriteAllTextAsync(kept, text);
        }
        // Without rules the end of the log is judged by the service; the command is carried out whatever becomes of them.
        catch (Exception e)
            when (e
                    is HttpRequestException
                        or OperationCanceledException
                        or AnswerException
                        or IOException
                        or UnauthorizedAccessException
                        or UriFormatException
                        or InvalidOperationException
                        or NotSupportedException
            )
        {
            if (text is null)
                text = ReadKept(kept);
        }
        return string.IsNullOrWhiteSpace(text) || CharterYaml.ReadNodes(text).Root is not { } root
            ? null
            : LogRulesReader.Read(root, job).Rules;
    }

    private static string Query(string? on) => on is null ? "" : $"?on={Uri.EscapeDataString(on)}";

    private static string? ReadKept(string? file)
    {
        try
        {
            return file is not null && File.Exists(file) ? File.ReadAllText(file) : null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    public void Dispose() => http.Dispose();
}
