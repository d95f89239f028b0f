using System.Net.Http.Headers;
using System.Text;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Telling;

/// <summary>CloudEvents 1.0 in structured JSON mode, posted to an address, signed where the receiver shares a secret.</summary>
internal sealed class WebhookCarrier(HttpClient http, TimeProvider clock, IOptions<ServiceSettings> settings) : IChannelCarrier
{
    public ChannelKind Kind => ChannelKind.Webhook;

    public async Task CarryAsync(ChannelDefinition channel, Message telling, CancellationToken cancel)
    {
        var body = CloudEvent.Of(telling, settings.Value.Machine);
        var told = WebAddress.Told(channel);
        try
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, WebAddress.Of(channel))
            {
                Content = new StringContent(body, Encoding.UTF8, "application/cloudevents+json"),
            };
            if (channel.TokenFile is { } file)
                request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", Mails.ReadSecret(file));
            if (channel.SignFile is { } secret)
                MessageSignature.Add(request, Encoding.UTF8.GetBytes(body), Mails.ReadSecret(secret), clock.GetUtcNow());
            // What it answers is not read, however long it is.
            using var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, cancel);
            if ((int)response.StatusCode is >= 300 and < 400)
                throw new ChannelFailedException(
                    $"{told} answered {(int)response.StatusCode}, which sends elsewhere; give the channel the address that takes messages"
                );
            if (!response.IsSuccessStatusCode)
                throw new ChannelFailedException($"{told} answered {(int)response.StatusCode}");
        }
        catch (Exception e) when (WebTrouble.Is(e, cancel))
        {
            throw WebTrouble.Of(told, e, "the token");
        }
    }
}

/// <summary>Where a webhook goes. Its address can be a secret itself, so what is written or told of it is cut to scheme and host.</summary>
internal static class WebAddress
{
    public static Uri Of(ChannelDefinition channel) => channel.Url is { } url ? new Uri(url) : In(channel.UrlFile!);

    /// <summary>The address that a file holds as a secret. Throws <see cref="ChannelFailedException"/> where it holds none.</summary>
    public static Uri In(string file) =>
        Uri.TryCreate(Mails.ReadSecret(file).Trim(), UriKind.Absolute, out var address) && address.Scheme is "http" or "https"
            ? address!
            : throw new ChannelFailedException($"the file {file} holds no address; write one such as https://host/path into it");

    public static string Told(Uri address) => $"{address.Scheme}://{address.Authority}";

    public static string Told(ChannelDefinition channel)
    {
        try
        {
            return Told(Of(channel));
        }
        catch (ChannelFailedException)
        {
            return $"the address in {channel.UrlFile}";
        }
    }
}

/// <summary>What goes wrong with a request, in words that never name the whole address: the library's text can.</summary>
internal static class WebTrouble
{
    public static bool Is(Exception e, CancellationToken cancel) =>
        e is HttpRequestException or FormatException or IOException || (e is TaskCanceledException && !cancel.IsCancellationRequested);

    /// <param name="unsendable">What cannot be sent as it is, where its form is wrong.</param>
    public static ChannelFailedException Of(string told, Exception e, string unsendable) =>
        new(
            $"{told}: "
                + (
                    e is FormatException ? $"{unsendable} cannot be sent as it is"
                    : e is TaskCanceledException ? "no answer in time"
                    : e.InnerException?.Message ?? "it cannot be reached"
                ),
            e
        );
}
