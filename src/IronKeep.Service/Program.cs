using System.Net.Sockets;
using IronKeep.Service.Health;
using IronKeep.Service.Hosting;
using Microsoft.Data.Sqlite;

if (args.Any(a => a is "--help" or "-h" or "-?"))
{
    Console.WriteLine($"""
        ironkeepd {SelfCheck.Version}: the Iron Keep service

        Usage: ironkeepd [--config FILE] [--IronKeep:SETTING=VALUE ...]

        Settings ({string.Join(", ", ServiceSettings.Names)})
        can stand in the file, in the environment (IRONKEEP__SETTING), or here; docs/operating.md tells what each means.
        Without --IronKeep:DataFolder the service keeps its own in {new ServiceSettings().DataFolder}.
        """);
    return 0;
}
if (args.Contains("--version"))
{
    Console.WriteLine($"ironkeepd {SelfCheck.Version}");
    return 0;
}
try
{
    await using var app = IronKeepHost.Build(args);
    if (!IronKeepHost.OnlyDescribes && await IronKeepHost.PrepareAsync(app) is { } code)
        Console.WriteLine($"{Environment.NewLine}This service has no people yet. Open its address and give this one-time code: {code}{Environment.NewLine}");
    await app.RunAsync();
    return 0;
}
catch (StartRefusedException e)
{
    return Refused(e.Message);
}
catch (IOException e) when (e.InnerException is Microsoft.AspNetCore.Connections.AddressInUseException || e is { InnerException: SocketException } || e.Message.Contains("address already in use", StringComparison.OrdinalIgnoreCase))
{
    return Refused($"the address to listen on cannot be used: {e.Message} Stop what uses it, or give another with --IronKeep:Listen");
}
catch (SocketException e)
{
    return Refused($"the address to listen on cannot be used: {e.Message}; give another with --IronKeep:Listen");
}
catch (SqliteException e)
{
    return Refused($"the catalogue in the data folder cannot be written ({e.Message}); look at its rights and at its disk");
}

static int Refused(string why)
{
    Console.Error.WriteLine($"ironkeepd cannot start: {why}");
    return 3;
}
