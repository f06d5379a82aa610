using GrandStair.Benches;

return args switch
{
    ["judge"] => JudgeBench.Run() ? 0 : 1,
    ["import"] => await ImportBench.RunAsync() ? 0 : 1,
    ["ssh-readings"] => await SshReadingsBench.RunAsync() ? 0 : 1,
    ["place"] => PlaceBench.Run() ? 0 : 1,
    ["place", "--check"] => PlaceBench.Check() ? 0 : 1,
    ["pilot"] => PilotBench.Run() ? 0 : 1,
    ["rehearse"] => RehearseBench.Run() ? 0 : 1,
    ["solver"] => SolverBench.Run() ? 0 : 1,
    ["solver", "anew"] => SolverBench.Anew() ? 0 : 1,
    ["fuzz"] => await FuzzBench.RunAsync(20270111) ? 0 : 1,
    ["fuzz", var seed] when int.TryParse(seed, out var number) => await FuzzBench.RunAsync(number) ? 0 : 1,
    ["engine"] => await EngineBench.RunAsync() & await EngineServiceBench.RunAsync() ? 0 : 1,
    ["engine", "service"] => await EngineServiceBench.RunAsync() ? 0 : 1,
    ["media"] => await MediaBench.RunAsync() ? 0 : 1,
    ["list"] => await ListBench.RunAsync() ? 0 : 1,
    _ => Usage(),
};

static int Usage()
{
    Console.Error.WriteLine("./bench: expected judge, import, ssh-readings, list, place, pilot, solver, rehearse, engine, media or fuzz");
    return 2;
}
