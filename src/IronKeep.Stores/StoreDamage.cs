namespace IronKeep.Stores;

/// <summary>Bytes in a store are not what was written; the message names the file or the chunk.</summary>
public sealed class StoreDamageException(string message, Exception? inner = null) : IOException(message, inner);
