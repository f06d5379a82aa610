using System.CommandLine;
using System.CommandLine.Invocation;
using System.Reflection;
using GrandStair.Core.Waves;

namespace GrandStair.Cli;

/// <summary>Prints the versions of the client and of its time zone data.</summary>
internal sealed class VersionAction : SynchronousCommandLineAction
{
    /// <inheritdoc />
    public override int Invoke(ParseResult parseResult)
    {
        var version = typeof(VersionAction)
            .Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()!
            .InformationalVersion.Split('+')[0];
        parseResult.InvocationConfiguration.Output.WriteLine($"gstair {version}, time zones {ZoneData.Version}");
        return 0;
    }
}
