using System.Buffers.Binary;
using System.Diagnostics;
using System.Text;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Stores.Tests;

/// <summary>A place on another machine, called over a line: as good as the folder itself, and neither side believes the other.</summary>
public sealed class CalledPlaceTests : IDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("called-").FullName;
    private readonly ServedPlace served;
    private readonly CalledPlace place;
    private int calls;

    public CalledPlaceTests()
    {
        served = new ServedPlace(new FolderPlace(root));
        place = new CalledPlace("the other place", call =>
        {
            calls++;
            Assert.InRange(call.Length, 1, PlaceWire.Most);
            var answer = served.Answer(call);
            Assert.InRange(answer.Length, 1, PlaceWire.Most);
            return answer;
        });
    }

    public void Dispose()
    {
        served.Dispose();
        Process.Start("rm", ["-rf", root]).WaitForExit();
    }

    [Fact]
    public void What_is_done_there_is_done_in_the_folder()
    {
        place.Write("a/b/c", "first"u8);
        place.Write("a/b/c", "second, longer"u8);
        Assert.Equal("second, longer", Encoding.UTF8.GetString(place.Read("a/b/c")));
        Assert.Equal("second, longer", File.ReadAllText(root + "/a/b/c"));
        Assert.True(place.Exists("a/b/c"));
        Assert.False(place.Exists("a/b"));
        var buffer = new byte[10];
        Assert.Equal(6, place.ReadAt("a/b/c", 8, buffer));
        Assert.True(place.WriteNew("new", "x"u8));
        Assert.False(place.WriteNew("new", "y"u8));
        Assert.Equal("x", File.ReadAllText(root + "/new"));
        place.Move("a/b/c", "d/e");
        Assert.Equal(["d/e 14", "new 1"], place.List("").Select(f => $"{f.Name} {f.Size}").Order());
        Assert.Equal(["d/e"], place.List("d").Select(f => f.Name));
        Assert.Empty(place.List("nowhere"));
        place.Delete("d/e");
        place.Delete("d/e", durable: false);
        Assert.Equal(["new"], place.List("").Select(f => f.Name));
        Assert.InRange(place.FreeBytes()!.Value, 1, place.TotalBytes()!.Value);
        using (var given = place.Create(10))
            given.Append("nothing of it is seen"u8);
        Assert.Equal(["new"], place.List("").Select(f => f.Name));
        Assert.Equal(new FolderPlace(root).Can, place.Can);
    }

    [Fact]
    public void Large_files_and_long_lists_go_in_parts()
    {
        var content = new byte[2 * PlaceWire.MostContent + 12_345];
        Random.Shared.NextBytes(content);
        using (var file = place.Create(content.Length))
        {
            file.Append(content);
            Assert.True(file.Finish("packs/large"));
        }
        Assert.True(content.AsSpan().SequenceEqual(File.ReadAllBytes(root + "/packs/large")));
        var buffer = new byte[content.Length + 10];
        Assert.Equal(content.Length - 5, place.ReadAt("packs/large", 5, buffer));
        Assert.True(content.AsSpan(5).SequenceEqual(buffer.AsSpan(0, content.Length - 5)));
        Assert.Equal(PlaceFault.Other, Assert.Throws<PlaceException>(() => place.Read("packs/large")).Fault);
        // A list that does not fit into one answer.
        var folder = string.Concat(Enumerable.Repeat("a/" + new string('n', 200) + "/", 1));
        Directory.CreateDirectory(root + "/" + folder);
        var names = Enumerable.Range(0, 20_500).Select(i => $"{folder}{i:d6}").ToList();
        names.ForEach(n => File.WriteAllText($"{root}/{n}", ""));
        calls = 0;
        Assert.Equal(names, place.List("a").Select(f => f.Name).Order(StringComparer.Ordinal));
        Assert.Equal(2, calls);
    }

    [Fact]
    public void A_fault_there_is_the_same_fault_here()
    {
        Assert.Equal(PlaceFault.NotFound, Assert.Throws<PlaceException>(() => place.Read("none")).Fault);
        Directory.Delete(root);
        var away = Assert.Throws<PlaceException>(() => place.List(""));
        Assert.Equal(PlaceFault.Unreachable, away.Fault);
        Assert.StartsWith("the other place: ", away.Message);
        Directory.CreateDirectory(root);
    }

    /// <summary>A whole store works over it: written, read, checked and reclaimed.</summary>
    [Fact]
    public void A_store_is_looked_after_over_it()
    {
        PooledStore.Create(place, new StoreMaking(HashKind.Blake3, null), DateTimeOffset.UnixEpoch);
        using var store = PooledStore.Open(place);
        Assert.True(StoreCheck.Run(store, CheckScope.Everything).Sound);
        using var here = PooledStore.Open(new FolderPlace(root));
        Assert.Empty(here.ReadContents().Copies);
    }

    public static TheoryData<string> OddNames =>
        ["../x", "a/../../x", "/etc/passwd", "a//b", ".", "a/.", "a~", "a b", "a\0b", "a\\b", "", "ä"];

    /// <summary>Nothing outside the folder can be named, whatever is asked.</summary>
    [Theory]
    [MemberData(nameof(OddNames))]
    public void Names_that_no_store_has_are_refused(string name)
    {
        foreach (
            var act in new Action[]
            {
                () => place.Read(name),
                () => place.Exists(name),
                () => place.ReadAt(name, 0, new byte[1]),
                () => place.Delete(name),
                () => place.Move("x", name),
                () => place.Move(name, "x"),
                () => place.Write(name, "x"u8),
            }
        )
            Assert.Contains("that no store has", Assert.Throws<PlaceException>(act).Message);
        if (name.Length > 0)
            Assert.Throws<PlaceException>(() => place.List(name));
    }

    [Fact]
    public void A_call_that_is_none_is_an_answer_and_nothing_else()
    {
        foreach (
            var call in new byte[][]
            {
                [],
                [0],
                [99],
                [(byte)PlaceVerb.Read],
                [(byte)PlaceVerb.Read, 255, 255, 1],
                [(byte)PlaceVerb.Append, 1, 2, 3],
                [.. new byte[] { (byte)PlaceVerb.Append }, .. BitConverter.GetBytes(7L), 1],
                [
                    .. new byte[] { (byte)PlaceVerb.ReadAt, 1, 0, (byte)'a' },
                    .. BitConverter.GetBytes(0L),
                    .. BitConverter.GetBytes(long.MaxValue),
                ],
                [.. new byte[] { (byte)PlaceVerb.ReadAt, 1, 0, (byte)'a' }, .. BitConverter.GetBytes(-1L), .. BitConverter.GetBytes(1L)],
            }
        )
            Assert.NotEqual(0, served.Answer(call)[0]);
        // So many files are begun and no more.
        var begun = Enumerable.Range(0, 64).Select(_ => place.Create(1)).ToList();
        Assert.Throws<PlaceException>(() => place.Create(1));
        begun.ForEach(b => b.Dispose());
        place.Create(1).Dispose();
        Assert.DoesNotContain(Directory.EnumerateFileSystemEntries(root), e => !e.EndsWith("/work", StringComparison.Ordinal));
    }

    [Fact]
    public void An_answer_that_is_none_is_a_fault_of_the_place()
    {
        static byte[] Numbers(params long[] numbers)
        {
            var bytes = new byte[1 + 8 * numbers.Length];
            for (var i = 0; i < numbers.Length; i++)
                BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(1 + 8 * i), numbers[i]);
            return bytes;
        }
        foreach (
            var answer in new byte[][]
            {
                [],
                [42],
                [0, 1],
                Numbers(long.MaxValue, 1),
                Numbers(-1, 0),
                Numbers(5, 6),
                Numbers(5, 5),
                [1 + (int)PlaceFault.Full, .. "no\u0007 room\n"u8],
            }
        )
        {
            var lying = new CalledPlace("it", _ => answer);
            var fault = Assert.Throws<PlaceException>(() => lying.List(""));
            Assert.DoesNotContain(fault.Message, char.IsControl);
        }
        var generous = new CalledPlace("it", _ => new byte[1000]);
        Assert.Throws<PlaceException>(() => generous.ReadAt("a", 0, new byte[10]));
        Assert.Throws<PlaceException>(() => new CalledPlace("it", _ => new byte[Place.MostSmall + 2]).Read("a"));
    }
}
