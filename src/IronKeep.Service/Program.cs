using System.Net.Sockets;
using IronKeep.Catalogue;
using IronKeep.Service.Basics;
using IronKeep.Service.Health;
using IronKeep.Service.Hosting;

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
catch (Exception e) when (CatalogueKinds.IsRefusal(e))
{
    return Refused($"the catalogue cannot be used ({e.Message}); look at its rights and its disk, or at its server and the way to it");
}

static int Refused(string why)
{
    Console.Error.WriteLine($"ironkeepd cannot start: {why}");
    return 3;
}
