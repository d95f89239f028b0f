using System.CommandLine;
using IronKeep.Agent;
using IronKeep.Core.Machines;
using IronKeep.Fleet;
using IronKeep.Runs.Surroundings;

// Any number of machines with agents in one process, for the demo, tests and the bench. They speak the real protocol, have keys and data of
// their own, and are slow, failing or away as a seed says.
var folder = new Option<string>("--folder")
{
    Description = "Where their folders and data are",
    Required = true,
    Recursive = true,
};
const int JoinAtOnce = 16;
var seed = new Option<int>("--seed") { Description = "From which everything about them is drawn", DefaultValueFactory = _ => 17 };
var root = new RootCommand("A fleet of machines with agents, for trying Iron Keep with many.");
root.Options.Add(folder);
root.Subcommands.Add(Join());
root.Subcommands.Add(Work());
return await root.Parse(args).InvokeAsync();

Command Join()
{
    var address = new Argument<string>("address") { Description = "Where the service takes agents" };
    var codes = new Option<string>("--codes") { Description = "A file with a machine and its code in each line", Required = true };
    var join = new Command("join", "Let machines join a service, each with its code") { address, codes };
    join.SetAction(
        async (parsed, cancel) =>
        {
            var standing = new MachineStanding();
            var joining = new List<(string Name, JoinCode Code)>();
            foreach (var line in (await File.ReadAllLinesAsync(parsed.GetValue(codes)!, cancel)).Where(l => l.Length > 0))
            {
                if (line.Split(' ') is not [var name, var text] || !JoinCode.TryParse(text, out var code, out _))
                {
                    await Console.Error.WriteLineAsync($"'{line}' is no machine with its code");
                    return 2;
                }
                joining.Add((name, code));
            }
            await Parallel.ForEachAsync(
                joining,
                new ParallelOptions { MaxDegreeOfParallelism = JoinAtOnce, CancellationToken = cancel },
                async (one, stop) =>
                {
                    using var machine = new FleetMachine(parsed.GetValue(folder)!, one.Name, None(parsed.GetValue(seed)), standing);
                    await machine.JoinAsync(parsed.GetValue(address)!, one.Code, stop);
                }
            );
            Console.WriteLine($"{joining.Count} machines joined.");
            return 0;
        }
    );
    join.Options.Add(seed);
    return join;
}

Command Work()
{
    var away = new Option<string[]>("--often-away")
    {
        Description = "Machines that are off again and again",
        AllowMultipleArgumentsPerToken = true,
    };
    var failing = new Option<string[]>("--failing")
    {
        Description = "Machines whose data is gone at times",
        AllowMultipleArgumentsPerToken = true,
    };
    var awayShare = new Option<double>("--away-share") { Description = "How many of the others are, from 0 to 1" };
    var failingShare = new Option<double>("--failing-share") { Description = "How many of the others fail, from 0 to 1" };
    var slowShare = new Option<double>("--slow-share") { Description = "How many have a slow line, from 0 to 1" };
    var cycle = new Option<double>("--cycle")
    {
        Description = "In how many seconds each of it happens once",
        DefaultValueFactory = _ => 600,
    };
    var alive = new Option<bool>("--alive-only") { Description = "They only say that they are there" };
    var work = new Command("work", "Be at work with every machine that has joined, until stopped")
    {
        seed,
        away,
        failing,
        awayShare,
        failingShare,
        slowShare,
        cycle,
        alive,
    };
    work.SetAction(
        async (parsed, cancel) =>
        {
            var wishes = new FleetWishes(
                parsed.GetValue(seed),
                parsed.GetValue(awayShare),
                parsed.GetValue(away) ?? [],
                parsed.GetValue(failingShare),
                parsed.GetValue(failing) ?? [],
                parsed.GetValue(slowShare),
                TimeSpan.FromSeconds(Math.Max(1, parsed.GetValue(cycle))),
                parsed.GetValue(alive)
            );
            var standing = new MachineStanding();
            await standing.FirstAsync(TimeSpan.FromSeconds(2));
            var all = Path.Combine(parsed.GetValue(folder)!, "agents");
            var machines = Directory
                .EnumerateDirectories(all)
                .Select(d => new FleetMachine(parsed.GetValue(folder)!, Path.GetFileName(d), wishes, standing))
                .ToList();
            Console.WriteLine($"{machines.Count} machines are at work.");
            await Task.WhenAll(machines.Select(m => Task.Run(() => m.WorkAsync(cancel), CancellationToken.None)));
            return 0;
        }
    );
    return work;
}

static FleetWishes None(int seed) => new(seed, 0, [], 0, [], 0, TimeSpan.FromMinutes(10), false);
