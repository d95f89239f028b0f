using IronKeep.Cli;

// What the client writes, exports and tokens among it, is for its user alone; a command that it wraps makes its files as ever.
if (args is not [IronKeep.Cli.Wrapping.WatchCommand.Word, ..])
    IronKeep.Stores.Posix.OwnFiles.Tighten();
return await Root.RunAsync(args);
