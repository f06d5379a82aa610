return await GrandStair.Cli.CommandLine.RunAsync(args);
