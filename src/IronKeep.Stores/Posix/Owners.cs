using System.Collections.Concurrent;
using System.Runtime.InteropServices;

namespace IronKeep.Stores.Posix;

/// <summary>
/// Names of users and groups by number, as the machine knows them; empty where it knows none. Remembered for the life of the object.
/// </summary>
public sealed class Owners
{
    private static readonly Lock Gate = new();
    private readonly ConcurrentDictionary<uint, string> users = new();
    private readonly ConcurrentDictionary<uint, string> groups = new();

    public string User(uint id) => users.GetOrAdd(id, i => Read(Native.UserById, i));

    public string Group(uint id) => groups.GetOrAdd(id, i => Read(Native.GroupById, i));

    // getpwuid and getgrgid share a static buffer; both structures begin with the pointer to the name.
    private static string Read(Func<uint, nint> call, uint id)
    {
        lock (Gate)
        {
            var record = call(id);
            return record == 0 ? "" : Marshal.PtrToStringUTF8(Marshal.ReadIntPtr(record)) ?? "";
        }
    }
}
