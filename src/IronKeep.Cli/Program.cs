using IronKeep.Cli;

return await Root.RunAsync(args);
