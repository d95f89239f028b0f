using IronKeep.Service.Hosting;

try
{
    var app = IronKeepHost.Build(args);
    if (!IronKeepHost.OnlyDescribes && await IronKeepHost.PrepareAsync(app) is { } code)
        Console.WriteLine($"{Environment.NewLine}This service has no people yet. Open its address and give this one-time code: {code}{Environment.NewLine}");
    await app.RunAsync();
    return 0;
}
catch (StartRefusedException e)
{
    await Console.Error.WriteLineAsync($"ironkeepd cannot start: {e.Message}");
    return 3;
}
