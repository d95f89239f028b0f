using IronKeep.Cli;

// What the client writes, exports and tokens among it, is for its user alone.
IronKeep.Stores.Posix.OwnFiles.Tighten();
return await Root.RunAsync(args);
