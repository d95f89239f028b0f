using System.Runtime.ExceptionServices;

namespace IronKeep.Stores;

/// <summary>Runs what goes down a tree by calling itself on a thread whose stack is deep enough for any tree.</summary>
internal static class DeepStack
{
    private const int Size = 512 * 1024 * 1024;

    public static T Run<T>(Func<T> action)
    {
        T result = default!;
        ExceptionDispatchInfo? failure = null;
        var thread = new Thread(() =>
        {
            try
            {
                result = action();
            }
            catch (Exception e)
            {
                failure = ExceptionDispatchInfo.Capture(e);
            }
        }, Size);
        thread.Start();
        thread.Join();
        failure?.Throw();
        return result;
    }
}
