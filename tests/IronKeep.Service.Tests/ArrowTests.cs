using System.Reflection;
using IronKeep.Catalogue;
using NetArchTest.Rules;

namespace IronKeep.Service.Tests;

/// <summary>Dependencies point one way: see docs/architecture.md.</summary>
public sealed class ArrowTests
{
    [Theory]
    [InlineData("IronKeep.Core", "IronKeep.Stores", "IronKeep.Runs", "IronKeep.Contracts", "IronKeep.Service", "System.IO", "Microsoft.Extensions", "Microsoft.EntityFrameworkCore", "YamlDotNet")]
    [InlineData("IronKeep.Stores", "IronKeep.Runs", "IronKeep.Contracts", "IronKeep.Service", "Microsoft.EntityFrameworkCore", "Microsoft.AspNetCore")]
    [InlineData("IronKeep.Runs", "IronKeep.Contracts", "IronKeep.Service", "Microsoft.EntityFrameworkCore", "Microsoft.AspNetCore")]
    [InlineData("IronKeep.Contracts", "IronKeep.Stores", "IronKeep.Runs", "IronKeep.Service")]
    [InlineData("IronKeep.Yaml", "IronKeep.Stores", "IronKeep.Runs", "IronKeep.Contracts", "IronKeep.Service", "Microsoft.AspNetCore")]
    public void Points_only_where_it_may(string assembly, params string[] forbidden)
    {
        var result = Types.InAssembly(Assembly.Load(assembly)).Should().NotHaveDependencyOnAny(forbidden).GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }

    [Fact]
    public void Core_reads_no_clock()
    {
        // The instant "as of" is always a parameter.
        var core = Assembly.Load("IronKeep.Core");
        var result = Types.InAssembly(core).Should().NotHaveDependencyOnAny("System.TimeProvider", "NodaTime.SystemClock", "System.DateTime").GetResult();
        Assert.True(result.IsSuccessful, string.Join(", ", result.FailingTypeNames ?? []));
    }
}
