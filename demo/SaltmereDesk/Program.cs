using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using IronKeep.Demo.Desk;

// The observatory's ticket desk, a stand-in for the one that a site has. Arguments: the folder for its tickets, which holds the key that
// whoever opens tickets must know (desk.key), then settings such as --urls. It ends when whoever began it does.
if (args.Length < 1)
{
    await Console.Error.WriteLineAsync("usage: saltmere-desk FOLDER [--urls http://127.0.0.1:7430]");
    return 2;
}
var folder = Path.GetFullPath(args[0]);
var key = Encoding.UTF8.GetBytes((await File.ReadAllTextAsync($"{folder}/desk.key")).Trim());
var tickets = new Tickets($"{folder}/tickets.json");
var builder = WebApplication.CreateSlimBuilder(args[1..]);
builder.Logging.SetMinimumLevel(LogLevel.Warning);
builder.Services.ConfigureHttpJsonOptions(o => o.SerializerOptions.TypeInfoResolverChain.Insert(0, DeskJson.Default));
await using var app = builder.Build();

var api = app.MapGroup("/api/tickets");
api.AddEndpointFilter(
    async (context, next) =>
        CryptographicOperations.FixedTimeEquals(Encoding.UTF8.GetBytes(context.HttpContext.Request.Headers["X-Desk-Key"].ToString()), key)
            ? await next(context)
            : Results.Unauthorized()
);
api.MapPost("", (Opening opening, HttpRequest request) =>
{
    var ticket = tickets.Open(request.Headers["Idempotency-Key"].ToString(), opening);
    return Results.Json(new Opened($"S-{ticket.Number}"), DeskJson.Default.Opened, statusCode: StatusCodes.Status201Created);
});
api.MapPost("/S-{number:int}/notes", (int number, Note note) => Known(tickets.Change(number, null, note.Text)));
api.MapPut("/S-{number:int}/state", (int number, Standing to) => Known(tickets.Change(number, to.State, to.Text)));
app.MapGet("/", () => Results.Content(Pages.All(tickets.All), "text/html; charset=utf-8"));
app.MapGet("/tickets/S-{number:int}", (int number) =>
    tickets.All.FirstOrDefault(t => t.Number == number) is { } ticket
        ? Results.Content(Pages.One(ticket), "text/html; charset=utf-8")
        : Results.NotFound()
);
await app.StartAsync();
Console.WriteLine(app.Urls.First());
if (Console.IsInputRedirected)
    _ = Task.Run(async () =>
    {
        while (await Console.In.ReadLineAsync() is not null) { }
        await app.StopAsync();
    });
await app.WaitForShutdownAsync();
return 0;

static IResult Known(bool known) => known ? Results.NoContent() : Results.NotFound();

/// <summary>The tickets, kept in one file that is whole or as it was.</summary>
internal sealed class Tickets(string file)
{
    private readonly Lock gate = new();
    private List<Ticket> all = File.Exists(file) ? JsonSerializer.Deserialize(File.ReadAllBytes(file), DeskJson.Default.ListTicket)! : [];

    public IReadOnlyList<Ticket> All
    {
        get
        {
            lock (gate)
                return [.. all];
        }
    }

    public Ticket Open(string key, Opening what)
    {
        lock (gate)
        {
            if (key.Length > 0 && all.Find(t => t.Key == key) is { } known)
                return known;
            var ticket = new Ticket(all.Count + 1, key, what, "open", []);
            Save([.. all, ticket]);
            return ticket;
        }
    }

    public bool Change(int number, string? state, string note)
    {
        lock (gate)
        {
            if (all.Find(t => t.Number == number) is not { } ticket)
                return false;
            Save([.. all.Select(t => t == ticket ? t with { State = state ?? t.State, Notes = [.. t.Notes, note] } : t)]);
            return true;
        }
    }

    private void Save(List<Ticket> now)
    {
        File.WriteAllBytes(file + ".part", JsonSerializer.SerializeToUtf8Bytes(now, DeskJson.Default.ListTicket));
        File.Move(file + ".part", file, true);
        all = now;
    }
}
