using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>
/// Alerts as tickets of an outside desk: opened, updated and closed as the charter's templates say. A ticket's reference is kept with the
/// alert. Each request carries a key that stays the same when it is sent again, so a desk that looks at it opens no ticket twice.
/// </summary>
internal sealed class DeskCarrier(
    HttpClient http,
    IDbContextFactory<KeepContext> catalogue,
    AlertBook book,
    TimeProvider clock,
    IOptions<ServiceSettings> settings
) : IChannelCarrier
{
    /// <summary>How much of an answer is read for the reference, in bytes, and how long that may be.</summary>
    private const int MostAnswer = 1 << 20,
        MostReference = 200;

    public ChannelKind Kind => ChannelKind.Desk;

    public async Task CarryAsync(ChannelDefinition channel, Message telling, CancellationToken cancel)
    {
        var desk = channel.Desk!;
        if (telling.AlertId is not { } alert)
        {
            // What is neither an alert nor a test is no matter for a desk, however it came here.
            if (telling.Type == "channel-test")
                await TryAsync(channel, telling, cancel);
            return;
        }
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var ticket = await db
            .Tickets.Where(t => t.AlertId == alert && t.Channel == channel.Name)
            .OrderByDescending(t => t.Id)
            .FirstOrDefaultAsync(cancel);
        // It opened it, and could not say so any more.
        if (ticket?.MessageId == telling.Id)
            return;
        var values = ValuesOf(telling);
        var over = telling.Type == "alert-closed";
        if (ticket is null or { ClosedAt: not null })
        {
            if (!over)
                await OpenAsync(db, channel, telling, alert, values, cancel);
            return;
        }
        if (over)
            ticket.ClosedAt = clock.Now();
        var call = over ? desk.Closes ?? desk.Updates : desk.Updates;
        if (ticket.Reference is not { } reference)
        {
            await db.SaveChangesAsync(cancel);
            if (over && call is not null)
                throw new MessageRefusedException(
                    $"alert {alert} is over, but its ticket in desk {channel.Name} gave no reference; close the ticket by hand",
                    true
                );
            return;
        }
        if (call is not null)
        {
            values["reference"] = reference;
            if (await AskAsync(channel, call, values, telling, cancel) is null)
            {
                ticket.ClosedAt = clock.Now();
                book.Note(
                    db,
                    alert,
                    AlertDeedKind.Ticket,
                    words: $"desk {channel.Name} does not have ticket {reference} any more, so it is told no more of it"
                );
            }
            else
                book.Note(
                    db,
                    alert,
                    AlertDeedKind.Ticket,
                    words: $"{(over ? "closed" : "updated")} ticket {reference} in desk {channel.Name}"
                );
        }
        await db.SaveChangesAsync(cancel);
    }

    private async Task OpenAsync(
        KeepContext db,
        ChannelDefinition channel,
        Message telling,
        long alert,
        Dictionary<string, string?> values,
        CancellationToken cancel
    )
    {
        var desk = channel.Desk!;
        var reference = (await AskAsync(channel, desk.Opens, values, telling, cancel))!;
        values["reference"] = reference;
        var known = reference.Length > 0;
        db.Tickets.Add(
            new Ticket
            {
                AlertId = alert,
                Channel = channel.Name,
                Reference = known ? reference : null,
                Page = known ? desk.Page?.Fill(values, Uri.EscapeDataString) : null,
                MessageId = telling.Id,
                OpenedAt = clock.Now(),
            }
        );
        book.Note(
            db,
            alert,
            AlertDeedKind.Ticket,
            words: known
                ? $"opened ticket {reference} in desk {channel.Name}"
                : $"opened a ticket without a reference in desk {channel.Name}"
        );
        // The desk has it: what comes now must not keep us from knowing.
        await db.SaveChangesAsync(CancellationToken.None);
        if (!known)
            throw new MessageRefusedException(
                $"desk {channel.Name} opened a ticket, but its answer holds no reference at {desk.Reference}, so it can neither be updated "
                    + "nor closed from here; set 'reference' to where the desk says it",
                true
            );
    }

    /// <summary>Opens a ticket that says it is a test, and closes it.</summary>
    private async Task TryAsync(ChannelDefinition channel, Message telling, CancellationToken cancel)
    {
        var desk = channel.Desk!;
        var values = ValuesOf(telling);
        var reference = (await AskAsync(channel, desk.Opens, values, telling, cancel))!;
        if (reference.Length == 0)
            throw new MessageRefusedException(
                $"desk {channel.Name} opened a ticket, but its answer holds no reference at {desk.Reference}; set 'reference' to where the "
                    + "desk says it",
                false
            );
        values["reference"] = reference;
        if (desk.Closes is { } closes && await AskAsync(channel, closes, values, telling, cancel) is null)
            throw new MessageRefusedException($"desk {channel.Name} opened ticket {reference} and does not find it to close it", false);
    }

    /// <summary>
    /// Sends one request. The reference that the answer holds, empty where it holds none; null where the desk does not have the ticket that
    /// the values name any more, which is never so of one that is opened.
    /// </summary>
    private async Task<string?> AskAsync(
        ChannelDefinition channel,
        DeskCall call,
        Dictionary<string, string?> values,
        Message telling,
        CancellationToken cancel
    )
    {
        var desk = channel.Desk!;
        var secret = channel.TokenFile is { } file ? Mails.ReadSecret(file) : null;
        try
        {
            using var request = new HttpRequestMessage(
                new HttpMethod(call.Method),
                new Uri(desk.Address + call.Path.Fill(values, Uri.EscapeDataString))
            );
            if (call.Body is { } body)
            {
                request.Content = new StringContent(body.Fill(values, desk.BodyEscape), Encoding.UTF8);
                request.Content.Headers.ContentType = MediaTypeHeaderValue.Parse(desk.ContentType);
                request.Content.Headers.ContentType.CharSet ??= "utf-8";
            }
            request.Headers.TryAddWithoutValidation("Idempotency-Key", KeyOf(telling));
            var withSecret = new Dictionary<string, string?>(values) { ["secret"] = secret };
            foreach (var (name, value) in desk.Headers)
                if (!name.Equals("Content-Type", StringComparison.OrdinalIgnoreCase))
                    request.Headers.TryAddWithoutValidation(name, value.Fill(withSecret, TicketDesk.Header));
            if (secret is not null && !desk.Headers.Any(h => h.Value.Fields.Contains("secret")))
                request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", secret);
            using var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, cancel);
            if (response.StatusCode is HttpStatusCode.NotFound or HttpStatusCode.Gone && values.ContainsKey("reference"))
                return null;
            if (!response.IsSuccessStatusCode)
                throw Failed(channel, response.StatusCode);
            return await ReferenceAsync(desk.Reference, response, cancel);
        }
        catch (Exception e) when (WebTrouble.Is(e, cancel))
        {
            throw WebTrouble.Of(Host(channel), e, "a header or the address");
        }
    }

    private static async Task<string> ReferenceAsync(string where, HttpResponseMessage response, CancellationToken cancel)
    {
        if (!where.StartsWith('/'))
            return Usable(
                response.Headers.TryGetValues(where, out var found) || response.Content.Headers.TryGetValues(where, out found)
                    ? found.First()
                    : ""
            );
        await using var stream = await response.Content.ReadAsStreamAsync(cancel);
        var bytes = new byte[MostAnswer];
        var length = await stream.ReadAtLeastAsync(bytes, MostAnswer, throwOnEndOfStream: false, cancel);
        // A longer one is none of a ticket; whatever it is, it is not read.
        if (length == MostAnswer)
            return "";
        try
        {
            using var answer = JsonDocument.Parse(bytes.AsMemory(0, length));
            return Usable(At(answer.RootElement, where));
        }
        catch (JsonException)
        {
            return "";
        }
    }

    /// <summary>What a JSON pointer (RFC 6901) points at, as text; empty where there is nothing.</summary>
    private static string At(JsonElement element, string pointer)
    {
        foreach (var part in pointer[1..].Split('/'))
        {
            var name = part.Replace("~1", "/", StringComparison.Ordinal).Replace("~0", "~", StringComparison.Ordinal);
            if (element.ValueKind == JsonValueKind.Object && element.TryGetProperty(name, out var below))
                element = below;
            else if (
                element.ValueKind == JsonValueKind.Array
                && int.TryParse(name, NumberStyles.None, CultureInfo.InvariantCulture, out var index)
                && index < element.GetArrayLength()
            )
                element = element[index];
            else
                return "";
        }
        return element.ValueKind switch
        {
            JsonValueKind.String => element.GetString()!,
            JsonValueKind.Number => element.GetRawText(),
            _ => "",
        };
    }

    private static string Usable(string reference) => reference.Length <= MostReference && !reference.Any(char.IsControl) ? reference : "";

    private string KeyOf(Message telling) => $"ironkeep-{settings.Value.Machine}-{telling.Id}-{telling.MadeAt.ToUnixTimeMilliseconds()}";

    private Dictionary<string, string?> ValuesOf(Message telling)
    {
        var alert = telling.AlertId is null ? null : JsonSerializer.Deserialize<AlertAnswer>(telling.Data, ContractJson.Options);
        return new Dictionary<string, string?>
        {
            ["title"] = telling.Subject,
            ["text"] = telling.Body.Trim(),
            ["sentence"] = alert?.Message ?? telling.Body.Trim(),
            ["remedy"] = alert?.Remedy ?? "Nothing.",
            ["class"] = alert is null ? "test" : Kebab.Of(alert.Class),
            ["severity"] = Kebab.Of(alert?.Severity ?? Severity.Notice),
            ["subject"] = alert?.Subject.Words ?? "a test",
            ["keep"] = settings.Value.Machine,
            ["alert"] = $"{telling.AlertId ?? 0}",
            ["times"] = $"{alert?.Count ?? 1}",
            ["since"] = (alert?.OpenedAt ?? telling.MadeAt.ToDateTimeOffset()).ToString(
                "yyyy-MM-dd'T'HH:mm:ss'Z'",
                CultureInfo.InvariantCulture
            ),
            ["key"] = KeyOf(telling),
            ["job"] = alert?.Subject.Job,
            ["machine"] = alert?.Subject.Machine,
            ["store"] = alert?.Subject.Store,
            ["run"] = alert?.RunId is { } run ? $"{run}" : null,
        };
    }

    private static ChannelFailedException Failed(ChannelDefinition channel, HttpStatusCode status) =>
        new(
            $"{Host(channel)} answered {(int)status}"
                + (
                    (int)status is >= 300 and < 400 ? ", which sends elsewhere; give the channel the address that takes tickets"
                    : status is HttpStatusCode.Unauthorized or HttpStatusCode.Forbidden ? "; look at the channel's token and headers"
                    : (int)status is >= 400 and < 500 ? "; look at the channel's requests and bodies"
                    : ""
                )
        );

    private static string Host(ChannelDefinition channel) => WebAddress.Told(new Uri(channel.Desk!.Address));
}
