using IronKeep.Agent;

IronKeep.Stores.Posix.OwnFiles.Tighten();
return await Root.RunAsync(args);
