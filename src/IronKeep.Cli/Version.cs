using System.Reflection;

namespace IronKeep.Cli;

/// <summary>The product's one version number.</summary>
internal static class Version
{
    public static string Text { get; } =
        typeof(Version).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()!.InformationalVersion.Split('+')[0];
}
