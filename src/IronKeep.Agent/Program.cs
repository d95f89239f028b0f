using IronKeep.Agent;

IronKeep.Stores.Posix.OwnFiles.Tighten();
NewerProcessor.GoOver();
return await Root.RunAsync(args);
