using System.Net.Sockets;
using IronKeep.Catalogue;
using IronKeep.Service.Basics;
using IronKeep.Service.Health;
using IronKeep.Service.Hosting;

var command = args is ["catalogue", ..];
if (args.Any(a => a is "--help" or "-h" or "-?"))
{
    Console.WriteLine(
        $"""
        ironkeepd {SelfCheck.Version}: the Iron Keep service

        Usage: ironkeepd [--config FILE] [--IronKeep:SETTING=VALUE ...]
               ironkeepd catalogue move --to TARGET [the settings of the service]

        "catalogue move" carries the catalogue, while the service does not run, to a new SQLite file (an absolute path) or an empty
        PostgreSQL database (a connection string), and compares the two row by row.

        Settings ({string.Join(", ", ServiceSettings.Names)})
        can stand in the file, in the environment (IRONKEEP__SETTING), or here; docs/operating.md tells what each means.
        Without --IronKeep:DataFolder the service keeps its own in {new ServiceSettings().DataFolder}.
        """
    );
    return 0;
}
if (args.Contains("--version"))
{
    Console.WriteLine($"ironkeepd {SelfCheck.Version}");
    return 0;
}
try
{
    if (command)
    {
        Console.WriteLine(await MoveCommand.RunAsync(args[1..], CancellationToken.None));
        return 0;
    }
    await using var app = IronKeepHost.Build(args);
    if (!IronKeepHost.OnlyDescribes && await IronKeepHost.PrepareAsync(app) is { } code)
        Console.WriteLine(
            $"{Environment.NewLine}This service has no people yet. Open its address and give this one-time code: "
                + $"{code}{Environment.NewLine}"
        );
    await app.RunAsync();
    return 0;
}
catch (Exception e) when (e is StartRefusedException or MoveRefusedException)
{
    return Refused(e.Message);
}
catch (IOException e)
    when (e.InnerException is Microsoft.AspNetCore.Connections.AddressInUseException
        || e is { InnerException: SocketException }
        || e.Message.Contains("address already in use", StringComparison.OrdinalIgnoreCase)
    )
{
    return Refused($"the address to listen on cannot be used: {e.Message} Stop what uses it, or give another with --IronKeep:Listen");
}
catch (SocketException e)
{
    return Refused($"the address to listen on cannot be used: {e.Message}; give another with --IronKeep:Listen");
}
catch (Exception e) when (CatalogueKinds.IsRefusal(e))
{
    return Refused($"the catalogue cannot be used ({e.Message}); look at its rights and its disk, or at its server and the way to it");
}

int Refused(string why)
{
    Console.Error.WriteLine($"ironkeepd{(command ? "" : " cannot start")}: {why}");
    return 3;
}
