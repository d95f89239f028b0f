using IronKeep.Bench;

switch (args[0])
{
    case "catalogue":
        if (args is [_, _, "many"])
            await LargeCatalogue.MeasureManyAsync(args[1]);
        else
            await LargeCatalogue.MeasureAsync(args[1], args.Length < 3);
        break;
    case "planning":
        Planning.Measure();
        break;
    case "watching":
        await WatchingBench.MeasureAsync(args[1], args.Length > 2 ? args[2] : null);
        break;
    case "telling":
        await TellingBench.MeasureAsync(args[1], args.Length > 2 ? args[2] : null);
        break;
    case "sending":
        SendingBench.Measure(args[1], args[2], Number(3));
        break;
    case "ask":
        await CheckInAsker.AskAsync(Number(1), args[2], Number(3), Number(4));
        break;
    case "logs":
        LogBench.Measure(args[1]);
        break;
    case "crash":
        // A folder to work in (emptied), and how many kills.
        new CrashHarness(args[1], Number(2)).Run();
        break;
    case "crash-service":
        // The service's program, a folder to work in (emptied), and how many kills.
        using (var harness = new ServiceCrashHarness(args[1], args[2], Number(3)))
            await harness.RunAsync();
        break;
    case "crash-agents":
        // The service's and the agent's program, a folder to work in (emptied), and how many kills.
        using (var harness = new AgentCrashHarness(args[1], args[2], args[3], Number(4)))
            await harness.RunAsync();
        break;
    case "crash-child":
        CrashHarness.Child(args[1], Number(2));
        break;
    case "backup":
        // One backup in a process of its own, to see its memory: store, source, copy, previous copy or "-".
        StoreBench.BackUpAlone(args[1], args[2], args[3], args[4] == "-" ? null : args[4]);
        break;
    default:
        // The tree to measure with, a folder to work in (emptied), rounds, and what to measure (all when nothing is named).
        new StoreBench(args[0], args[1], Number(2), args[3..]).Measure();
        break;
}

int Number(int argument) => int.Parse(args[argument], System.Globalization.CultureInfo.InvariantCulture);
