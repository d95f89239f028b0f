using System.Buffers;
using System.Buffers.Binary;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Runs.Steps;
using IronKeep.Service.Basics;
using IronKeep.Stores.Places;
using IronKeep.Stores.Sessions;
using Microsoft.AspNetCore.Http.Features;

namespace IronKeep.Service.Machines;

/// <summary>
/// What an agent does with an order: begins it, sends what it holds, says how it goes, ends it. A token is of one machine's one order; for
/// any other it does not exist.
/// </summary>
internal static class OrderEndpoints
{
    private const string Bytes = "application/octet-stream";

    public static void MapOrders(this IEndpointRouteBuilder agent, AgentDesk desk, Func<Agent, AgentAnswer> answer)
    {
        agent.MapPost("/orders", async (AgentSelf self, HttpContext http, CancellationToken cancel) =>
        {
            var known = await AgentListening.CallerAsync(http, desk, cancel);
            await desk.Book.HeardAsync(known, self, AgentEndpoints.From(http));
            var (standing, hears) = (
                desk.Standing.Of(known.Machine, self.Standing),
                await desk.Hearing.OfAsync(known.Machine, self.Hears, cancel)
            );
            // What it does not know yet is told at once.
            var isNews =
                (standing is not null && (self.Standing is not null || standing.Orders.Count > 0))
                || (hears is not null && (self.Hears is not null || hears.Jobs.Count > 0));
            var waiting = await desk.Orders.TakeAsync(known.Machine, self.Instance, isNews, cancel);
            return TypedResults.Ok(
                new OrdersAnswer(
                    answer(known),
                    [.. waiting.Select(o => o.Copy).OfType<CopyOrder>()],
                    [.. waiting.Select(o => o.Restore).OfType<RestoreOnMachine>()],
                    [.. waiting.Select(o => o.Steps).OfType<StepsOrder>()],
                    desk.Due.Of(known.Machine),
                    [.. desk.Keeps.Of(known.Machine).Select(Words)],
                    [.. waiting.Select(o => o.Place).OfType<PlaceOrder>()],
                    standing,
                    hears
                )
            );
        });
        var copies = agent.MapGroup("/copies/{token}");
        MapTalk(copies);
        copies.MapPost("/begin", (string token, CopyBeginRequest request, HttpContext http, CancellationToken cancel) =>
            DoAsync(token, http, order =>
            {
                var begun = order.Talk is IMadeThere ? new CopyBeginAnswer([]) : Arrivals(order).Begin(request);
                order.Begin(request.Instance);
                return TypedResults.Ok(begun with { PerSecond = desk.Lines.Of(order.Machine) });
            })
        );
        copies.MapPost("/batches", (string token, HttpContext http, CancellationToken cancel) =>
            BytesAsync(token, http, WireBatch.Most, (order, body) => Arrivals(order).Take(body.Span), cancel)
        );
        copies.MapPost("/has", (string token, HttpContext http, CancellationToken cancel) =>
            BytesAsync(token, http, MostAsked, (order, body) => Arrivals(order).Has(body.Span), cancel)
        );
        copies.MapPost("/commit", (string token, CopyCommitRequest request, HttpContext http) =>
            DoAsync(token, http, order => TypedResults.Ok(Arrivals(order).Commit(request)), evenOver: true)
        );
        copies.MapPost("/made", (string token, CopyMadeRequest request, HttpContext http) => DoAsync(
                token,
                http,
                order =>
                {
                    (order.Talk as IMadeThere ?? throw new OrderOverException()).Made(request);
                    return TypedResults.Ok(new CopyReportAnswer(false));
                },
                evenOver: true
            ));
        var places = agent.MapGroup("/places/{token}");
        MapTalk(places);
        places.MapPost("/begin", (string token, OrderBeginRequest request, HttpContext http) => DoAsync(token, http, order =>
            {
                _ = Calls(order);
                order.Begin(request.Instance);
                return TypedResults.Ok(new CopyReportAnswer(order.IsStopped));
            }));
        places.MapPost("/work", async (string token, HttpContext http, CancellationToken cancel) =>
        {
            var order = await OrderAsync(token, http);
            var (body, length) = await BodyAsync(http, AnswerHead + PlaceWire.Most, cancel);
            try
            {
                order.Heard();
                if (order.IsOver)
                    throw new OrderOverException();
                if (length < AnswerHead)
                    throw new BadHttpRequestException("an answer to a call begins with a worker and a number");
                var number = BinaryPrimitives.ReadInt64LittleEndian(body.AsSpan(1));
                return
                    await Calls(order).NextAsync(order, body[0], number, body.AsMemory(AnswerHead, length - AnswerHead), cancel) is { } next
                    ? TypedResults.Bytes(Numbered(next.Number, next.Call), Bytes)
                    : Results.NoContent();
            }
            finally
            {
                ArrayPool<byte>.Shared.Return(body);
            }
        });
        var restores = agent.MapGroup("/restores/{token}");
        MapTalk(restores);
        restores.MapPost("/begin", (string token, OrderBeginRequest request, HttpContext http) => DoAsync(token, http, order =>
            {
                _ = Departures(order);
                order.Begin(request.Instance);
                return TypedResults.Ok(new CopyReportAnswer(order.IsStopped, desk.Lines.Of(order.Machine)));
            }));
        restores.MapPost("/chunks", (string token, HttpContext http, CancellationToken cancel) =>
            BytesAsync(token, http, WireAsk.Most * WireAsk.Size, (order, body) => Departures(order).Give(body.Span), cancel)
        );
        restores.MapPost("/end", (string token, RestoreEndRequest request, HttpContext http) => DoAsync(
                token,
                http,
                order =>
                {
                    Departures(order).End(request);
                    return TypedResults.Ok(new CopyReportAnswer(false));
                },
                evenOver: true
            ));

        var steps = agent.MapGroup("/steps/{token}");
        steps.MapPost("/begin", (string token, OrderBeginRequest request, HttpContext http) => DoAsync(token, http, order =>
            {
                var talk = Steps(order);
                order.Begin(request.Instance);
                return TypedResults.Ok(new StepsReportAnswer(order.IsStopped, talk.Success));
            }));
        steps.MapPost("/report", (string token, CopyReportRequest request, HttpContext http) => DoAsync(token, http, order =>
            {
                var talk = Steps(order);
                talk.Report(request);
                return TypedResults.Ok(new StepsReportAnswer(order.IsStopped, talk.Success));
            }));
        steps.MapPost("/ready", (string token, StepsReadyRequest request, HttpContext http) => DoAsync(token, http, order =>
            {
                var talk = Steps(order);
                talk.Ready(request);
                return TypedResults.Ok(new StepsReportAnswer(order.IsStopped, talk.Success));
            }));
        steps.MapPost("/end", (string token, StepsEndRequest request, HttpContext http) => DoAsync(
                token,
                http,
                order =>
                {
                    Steps(order).End(request);
                    return TypedResults.Ok(new StepsReportAnswer(false, null));
                },
                evenOver: true
            ));
        // Before the machine is heard of again, so that nothing is begun that it has done.
        agent.MapPost("/journal", async (JournalRequest request, HttpContext http, CancellationToken cancel) =>
        {
            var known = await AgentListening.CallerAsync(http, desk, cancel);
            await desk.Journals.TakeAsync(known.Machine, request, cancel);
            return TypedResults.Ok(new CopyReportAnswer(false));
        });
        agent.MapPost("/heard", async (HeardRequest request, HttpContext http, CancellationToken cancel) =>
        {
            var known = await AgentListening.CallerAsync(http, desk, cancel);
            await desk.Hearing.TakeAsync(known.Machine, request, cancel);
            return TypedResults.Ok(new CopyReportAnswer(false));
        });
        agent.MapPost("/steps-owed", async (StepsOwedRequest request, HttpContext http, CancellationToken cancel) =>
        {
            var known = await AgentListening.CallerAsync(http, desk, cancel);
            await desk.Owed.NoteAsync(known.Machine, request, cancel);
            return TypedResults.Ok(new CopyReportAnswer(false));
        });

        // How it goes, and why it could not be, whatever it is.
        void MapTalk(IEndpointRouteBuilder of)
        {
            of.MapPost("/report", (string token, CopyReportRequest request, HttpContext http) => DoAsync(token, http, order =>
                {
                    order.Talk.Report(request);
                    return TypedResults.Ok(new CopyReportAnswer(order.IsStopped, desk.Lines.Of(order.Machine)));
                }));
            of.MapPost("/fail", (string token, CopyFailRequest request, HttpContext http) => DoAsync(token, http, order =>
                {
                    order.Talk.Fail(request);
                    return TypedResults.Ok(new CopyReportAnswer(true));
                }));
        }

        static IArrivals Arrivals(AgentOrder order) => order.Talk as IArrivals ?? throw new OrderOverException();

        static IPlaceTalk Calls(AgentOrder order) => order.Talk as IPlaceTalk ?? throw new OrderOverException();

        static IStepsTalk Steps(AgentOrder order) => order.Talk as IStepsTalk ?? throw new OrderOverException();

        static IDepartures Departures(AgentOrder order) => order.Talk as IDepartures ?? throw new OrderOverException();

        async Task<IResult> BytesAsync(
            string token,
            HttpContext http,
            int most,
            Func<AgentOrder, ReadOnlyMemory<byte>, byte[]> answer,
            CancellationToken cancel
        )
        {
            // Whose it is comes before anything is read of it.
            var order = await OrderAsync(token, http);
            await order.Reading.WaitAsync(cancel);
            var (body, length) = (Array.Empty<byte>(), 0);
            try
            {
                (body, length) = await BodyAsync(http, most, cancel);
                return await ActAsync(order, o => TypedResults.Bytes(answer(o, body.AsMemory(0, length)), Bytes), evenOver: false);
            }
            finally
            {
                if (body.Length > 0)
                    ArrayPool<byte>.Shared.Return(body);
                order.Reading.Release();
            }
        }

        async Task<AgentOrder> OrderAsync(string token, HttpContext http)
        {
            var known = await AgentListening.CallerAsync(http, desk, http.RequestAborted);
            return desk.Orders.Of(token, known.Machine) ?? throw new OrderOverException();
        }

        async Task<IResult> DoAsync(string token, HttpContext http, Func<AgentOrder, IResult> act, bool evenOver = false) =>
            await ActAsync(await OrderAsync(token, http), act, evenOver);

        static async Task<IResult> ActAsync(AgentOrder order, Func<AgentOrder, IResult> act, bool evenOver)
        {
            order.Heard();
            if (order.IsOver && !evenOver)
                throw new OrderOverException();
            // Stores work by blocking calls, and must not hold up who listens.
            return await Task.Run(() => act(order), CancellationToken.None);
        }
    }

    private static KeptServiceWords Words(KeptService s) => new(s.Job, Word(s.Up), Word(s.Start), s.Times, s.Within.TotalSeconds);

    internal static StepWords[] Words(IEnumerable<RunStep> all) => [.. all.Select(Word)];

    /// <summary>A step as agents are told of it.</summary>
    internal static StepWords Word(RunStep s) => new(s.Name, [.. s.Command], s.As, s.Limit.TotalSeconds);

    /// <summary>In front of an answer to a call stand the worker (1) and the number of the call (8).</summary>
    private const int AnswerHead = 9;

    private static byte[] Numbered(long number, byte[] call)
    {
        var bytes = new byte[8 + call.Length];
        BinaryPrimitives.WriteInt64LittleEndian(bytes, number);
        call.CopyTo(bytes, 8);
        return bytes;
    }

    private const int MostAsked = 1024 * 1024;

    /// <summary>How much of a body is made room for before any of it is there.</summary>
    private const int FirstRoom = 1024 * 1024;

    /// <summary>
    /// The body in an array that is to be given back, and its length. Room grows with what has come, not with what is said to come.
    /// </summary>
    private static async Task<(byte[] Body, int Length)> BodyAsync(HttpContext http, int most, CancellationToken cancel)
    {
        http.Features.Get<IHttpMaxRequestBodySizeFeature>()!.MaxRequestBodySize = most;
        // One byte more than is said shows that it has ended.
        var said = (int)Math.Clamp(http.Request.ContentLength ?? FirstRoom, 0, most) + 1;
        var room = ArrayPool<byte>.Shared.Rent(Math.Min(said, FirstRoom));
        var length = 0;
        try
        {
            while (true)
            {
                var read = await http.Request.Body.ReadAsync(room.AsMemory(length), cancel);
                if (read == 0)
                    return (room, length);
                length += read;
                if (length < room.Length)
                    continue;
                var larger = ArrayPool<byte>.Shared.Rent(Math.Max(said, 2 * length));
                room.AsSpan(0, length).CopyTo(larger);
                ArrayPool<byte>.Shared.Return(room);
                room = larger;
            }
        }
        catch
        {
            ArrayPool<byte>.Shared.Return(room);
            throw;
        }
    }
}

/// <summary>The order that somebody came with is over, or never was this machine's.</summary>
public sealed class OrderOverException()
    : Exception("there is no such order of this machine, or not any more: its run has ended; ask for orders anew");
