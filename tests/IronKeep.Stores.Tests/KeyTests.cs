using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Stores.Tests;

public sealed class KeyTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("keys-").FullName;

    public void Dispose() => Directory.Delete(folder, true);

    [Fact]
    public void Several_secrets_open_one_store_each_can_be_withdrawn_and_the_last_cannot()
    {
        var place = new FolderPlace(folder);
        var now = DateTimeOffset.UnixEpoch;
        PooledStore.Create(place, new StoreMaking(HashKind.Blake3, Secret.Passphrase("café am Watt\n"), "first", Hardness.Light), now);
        Assert.Contains("encrypted", Assert.Throws<StoreKeyException>(() => PooledStore.Open(place)).Message);
        var wrong = Assert.Throws<StoreKeyException>(() => PooledStore.Open(place, Secret.Passphrase("cafe am Watt"))).Message;
        Assert.Contains("'first'", wrong);
        Assert.DoesNotContain("Watt", wrong);
        var code = RecoverySheet.NewCode();
        var key = Enumerable.Range(0, 32).Select(i => (byte)i).ToArray();
        // The same passphrase, typed at a prompt without the line end of the file.
        using (var store = PooledStore.Open(place, Secret.Passphrase("café am Watt")))
        {
            store.AddKey("sheet", Secret.Recovery(code), now.AddDays(1), Hardness.Light);
            store.AddKey("machine", Secret.KeyFile(key), now.AddDays(2), Hardness.Light);
            store.WithdrawKey(store.KeyWraps()[0].Id);
        }
        Assert.Throws<StoreKeyException>(() => PooledStore.Open(place, Secret.Passphrase("café am Watt")));
        using (PooledStore.Open(place, Secret.Recovery(code.ToLowerInvariant().Replace('-', ' ').Replace("0", "o")))) { }
        using (var store = PooledStore.Open(place, Secret.KeyFile(key)))
        {
            store.WithdrawKey(store.KeyWraps()[0].Id);
            Assert.Contains("last key", Assert.Throws<StoreKeyException>(() => store.WithdrawKey(store.KeyWraps()[0].Id)).Message);
        }
        Assert.Contains("16 to 65536", Assert.Throws<StoreKeyException>(() => Secret.KeyFile(new byte[5])).Message);
        // Without any wrap nobody gets in, and it is said which file is missing.
        foreach (var file in Directory.EnumerateFiles(folder + "/wraps"))
            File.WriteAllText(file, "noise");
        Assert.Contains("wraps/", Assert.Throws<StoreDamageException>(() => PooledStore.Open(place, Secret.KeyFile(key))).Message);
    }

    [Fact]
    public void A_slip_in_a_recovery_code_is_found_and_named_by_its_group()
    {
        var random = new Random(3);
        for (var round = 0; round < 300; round++)
        {
            var code = RecoverySheet.NewCode();
            Assert.Equal(code, RecoverySheet.Write(RecoverySheet.ReadCode(code)));
            Assert.Equal(71, code.Length);
        }
        var missed = 0;
        for (var round = 0; round < 2000; round++)
        {
            var code = RecoverySheet.NewCode().ToCharArray();
            int at;
            do at = random.Next(code.Length);
            while (code[at] == '-');
            var before = code[at];
            do code[at] = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"[random.Next(32)];
            while (code[at] == before);
            try
            {
                RecoverySheet.ReadCode(new string(code));
                missed++;
            }
            catch (StoreKeyException e)
            {
                Assert.Contains($"group {at / 9 + 1} ", e.Message);
            }
        }
        // One check letter of 32 lets a thirty-second part of slips through at most; the key then simply does not open.
        Assert.InRange(missed, 0, 140);
        Assert.Contains("8 groups", Assert.Throws<StoreKeyException>(() => RecoverySheet.ReadCode("ABC")).Message);
    }

    /// <summary>Noise in the place of small files: named, never a crash, and never a secret's work for a made-up hardness.</summary>
    [Fact]
    public void Small_files_of_noise_are_refused_by_name()
    {
        var place = new FolderPlace(folder);
        PooledStore.Create(
            place,
            new StoreMaking(HashKind.Blake3, Secret.Passphrase("x at low tide"), "x", Hardness.Light),
            DateTimeOffset.UnixEpoch
        );
        var originals = Directory
            .EnumerateFiles(folder, "*", SearchOption.AllDirectories)
            .Where(f => !f.EndsWith("/ballast", StringComparison.Ordinal))
            .ToDictionary(f => f, File.ReadAllBytes);
        var seed = Environment.TickCount;
        var random = new Random(seed);
        for (var round = 0; round < 400; round++)
        {
            var (file, before) = originals.ElementAt(random.Next(originals.Count));
            var bytes = (byte[])before.Clone();
            switch (random.Next(3))
            {
                case 0:
                    for (var i = 0; i < 3; i++)
                        bytes[random.Next(bytes.Length)] ^= (byte)random.Next(1, 256);
                    break;
                case 1:
                    bytes = bytes[..random.Next(bytes.Length)];
                    break;
                default:
                    // A well-made file with made-up numbers: its check fits.
                    var line = System.Text.Encoding.UTF8.GetString(before).Split('\n')[0];
                    bytes = CheckedText.Write(
                        line.Replace("1024", $"{random.NextInt64()}", StringComparison.Ordinal)
                            .Replace("\"version\":2", $"\"version\":{random.Next(3, 99)}", StringComparison.Ordinal)
                    );
                    break;
            }
            File.WriteAllBytes(file, bytes);
            if (!bytes.AsSpan().SequenceEqual(before))
            {
                var failure = Record.Exception(() => PooledStore.Open(place, Secret.Passphrase("x at low tide")).Dispose());
                Assert.True(failure is StoreDamageException or StoreKeyException, $"seed {seed}, round {round}, {file}: {failure}");
            }
            File.WriteAllBytes(file, before);
        }
    }
}
