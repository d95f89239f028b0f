using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Yaml;

namespace IronKeep.Core.Tests.Machines;

/// <summary>Stores on the disk of a machine, which its agent alone reaches: what a charter says, and what the machine allows.</summary>
public sealed class StoreOnTests
{
    private static CharterReading Read(string store, string job = "on: curlew") =>
        CharterYaml.Read(
            $$"""
            charter: 1
            machines: { curlew: {}, plover: {} }
            stores: { disk: { folder: /mnt/second/keep, {{store}} } }
            policies: { few: { keep: newest 2 } }
            jobs: { cameras: { takes: /srv/cameras, into: disk, policy: few, {{job}} } }
            """
        );

    [Fact]
    public void A_store_is_on_a_machine_and_says_so_again()
    {
        var charter = Read("via: agent, on: curlew").Charter!;
        var store = charter.Stores["disk"];
        Assert.Equal(("curlew", null, "/mnt/second/keep"), (store.On, store.LocalFolder, store.Folder));
        var written = CharterWriter.Write(charter);
        Assert.Contains("via: agent", written);
        Assert.Equal(written, CharterWriter.Write(CharterYaml.Read(written).Charter!));
    }

    [Theory]
    [InlineData("via: agent", "on: curlew", "needs the machine whose disk it is")]
    [InlineData("on: curlew", "on: curlew", "goes with 'via: agent'")]
    [InlineData("via: post, on: curlew", "on: curlew", "is no way to a store")]
    [InlineData("via: agent, on: curlw", "on: curlew", "did you mean 'curlew'?")]
    [InlineData("via: agent, on: curlew, key-file: /etc/k", "on: curlew", "no key of a store leaves the service")]
    [InlineData("via: agent, on: curlew", "on: plover", "lies on curlew, whose agent alone reaches it, and this job is on plover")]
    [InlineData("via: agent, on: curlew", "note: x", "this job is on the service's own machine")]
    public void A_mistake_names_the_thing_and_the_way_out(string store, string job, string says) =>
        Assert.Contains(Read(store, job).Mistakes, m => m.Message.Contains(says, StringComparison.Ordinal));

    [Fact]
    public void A_machine_allows_the_folders_that_it_lists()
    {
        var (allowed, mistakes) = AllowedCommands.Read(CharterYaml.ReadNodes("stores: [/mnt/second/keep/, /mnt/third]").Root!);
        Assert.Empty(mistakes);
        Assert.True(allowed!.AllowsStore("/mnt/second/keep"));
        Assert.False(allowed.AllowsStore("/mnt/second"));
        Assert.False(allowed.AllowsStore("/mnt/second/keep/deeper"));
        Assert.False(AllowedCommands.None.AllowsStore("/mnt/third"));
        Assert.NotEmpty(AllowedCommands.Read(CharterYaml.ReadNodes("stores: [mnt]").Root!).Mistakes);
    }
}
