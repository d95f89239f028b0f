using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Telling;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Telling;

public static class ChannelEndpoints
{
    /// <summary>Whom or what a channel reaches, in words; no secret.</summary>
    internal static string ToOf(ChannelDefinition channel) =>
        channel.Kind switch
        {
            Core.Charters.ChannelKind.Webhook => WebAddress.Told(channel),
            Core.Charters.ChannelKind.Syslog => channel.Syslog!,
            Core.Charters.ChannelKind.Desk => channel.Desk!.Address,
            Core.Charters.ChannelKind.Command => string.Join(' ', channel.Command),
            _ => string.Join(", ", channel.MailTo),
        };

    public static void MapChannels(this IEndpointRouteBuilder api)
    {
        var channels = api.MapGroup("/channels");
        channels
            .MapGet("", async (CharterInForce charter, KeepContext db, CancellationToken cancel) =>
            {
                var answers = new List<ChannelAnswer>();
                foreach (var channel in charter.Charter.Channels.Values)
                {
                    var mine = db.Messages.AsNoTracking().Where(m => m.Channel == channel.Name);
                    var last = await mine.Where(m => m.EndedAt != null).OrderByDescending(m => m.Id).FirstOrDefaultAsync(cancel);
                    var stuck = await mine.Where(m => m.EndedAt == null).OrderBy(m => m.Id).FirstOrDefaultAsync(cancel);
                    answers.Add(
                        new ChannelAnswer(
                            channel.Name,
                            channel.Kind,
                            ToOf(channel),
                            await mine.CountAsync(m => m.EndedAt == null, cancel),
                            last is { Sent: true } ? last.EndedAt?.ToDateTimeOffset() : null,
                            stuck?.Problem ?? last?.Problem
                        )
                    );
                }
                return TypedResults.Ok<IReadOnlyList<ChannelAnswer>>(answers);
            })
            .WithSummary("The channels with what waits in them and what went wrong last");
        channels
            .MapPost(
                "/{name}/test",
                async Task<Results<Ok<ChannelTestAnswer>, ProblemHttpResult>> (
                    string name,
                    CharterInForce charter,
                    TellingDesk desk,
                    Teller teller,
                    KeepContext db,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    if (!charter.Charter.Channels.ContainsKey(name))
                        return Problems.NotThere("channel", name, "channels", " in the charter");
                    var by = http.User.Identity!.Name!;
                    await desk.WriteAsync(
                        db,
                        [new Addressee(name, null, null, null, "it is tried")],
                        new Words(
                            "a test",
                            $"{by} tries this channel. If you read this, it works.\n",
                            "channel-test",
                            new ChannelTestAnswer(true, null)
                        ),
                        cancel
                    );
                    var id = await db.Messages.Where(m => m.Channel == name).MaxAsync(m => m.Id, cancel);
                    // What waits after a failure is tried at once.
                    await db
                        .Messages.Where(m => m.Channel == name && m.EndedAt == null && (m.Gathers == null || m.Attempts > 0))
                        .ExecuteUpdateAsync(s => s.SetProperty(m => m.NextAt, m => m.MadeAt), cancel);
                    await teller.CarryAsync(name, cancel);
                    var sent = await db.Messages.AsNoTracking().FirstAsync(m => m.Id == id, cancel);
                    var problem = sent.Problem
                        ?? await db
                            .Messages.Where(m => m.Channel == name && m.EndedAt == null)
                            .OrderBy(m => m.Id)
                            .Select(m => m.Problem)
                            .FirstOrDefaultAsync(cancel);
                    // One that some were refused is no success.
                    var through = sent is { Sent: true, Refused: false };
                    return TypedResults.Ok(new ChannelTestAnswer(through, through ? null : problem));
                }
            )
            .WithSummary("Sends a test message through a channel and says whether it went through; what waits there goes first");
    }
}
