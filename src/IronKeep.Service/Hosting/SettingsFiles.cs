using IronKeep.Catalogue;
using IronKeep.Service.Basics;

namespace IronKeep.Service.Hosting;

/// <summary>Reads the service's settings; what is wrong with a file or a value is said by name, all at once.</summary>
internal static class SettingsFiles
{
    private const string ConfigOption = "--config";
    private const string ConfigVariable = "IRONKEEP_CONFIG";

    /// <summary>A builder with the settings of all files, the environment and the arguments, in this order.</summary>
    public static WebApplicationBuilder Builder(string[] args)
    {
        var (file, rest) = Split(args);
        try
        {
            var builder = WebApplication.CreateBuilder(
                new WebApplicationOptions { Args = [.. rest], ContentRootPath = AppContext.BaseDirectory }
            );
            if (file is null)
                return builder;
            if (!File.Exists(file))
                throw new StartRefusedException(
                    $"the settings file {file} does not exist; name another with {ConfigOption} or {ConfigVariable}, or leave it out"
                );
            builder.Configuration.AddJsonFile(Path.GetFullPath(file), optional: false, reloadOnChange: false);
            builder.Configuration.AddEnvironmentVariables();
            builder.Configuration.AddCommandLine([.. rest]);
            return builder;
        }
        catch (Exception e) when (e is InvalidDataException or FormatException)
        {
            throw new StartRefusedException(
                $"{e.Message.TrimEnd('.')}: {e.InnerException?.Message ?? "it is not JSON"}. Mend the file, or move it away"
            );
        }
    }

    /// <summary>The settings; throws with every mistake in them.</summary>
    public static ServiceSettings Read(IConfigurationSection section)
    {
        var given = section.GetChildren().Select(c => c.Key).ToList();
        ServiceSettings settings;
        try
        {
            settings = section.Get<ServiceSettings>() ?? new ServiceSettings();
        }
        catch (InvalidOperationException e)
        {
            throw new StartRefusedException($"a setting cannot be read: {e.Message} {e.InnerException?.Message}");
        }
        var problems = settings.Problems(given).ToList();
        return problems.Count == 0 ? settings : throw new StartRefusedException(string.Join(Environment.NewLine, problems));
    }

    private static (string? File, List<string> Others) Split(string[] args)
    {
        var rest = args.ToList();
        var at = rest.IndexOf(ConfigOption);
        if (at < 0)
            return (Environment.GetEnvironmentVariable(ConfigVariable) is { Length: > 0 } named ? named : null, rest);
        if (at + 1 >= rest.Count)
            throw new StartRefusedException($"{ConfigOption} needs the settings file after it");
        var file = rest[at + 1];
        rest.RemoveRange(at, 2);
        return (file, rest);
    }
}
