using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Service.Access;
using GrandStair.Storage.Fleet;

namespace GrandStair.Service.Sources;

/// <summary>The sources that readings are taken from besides files and machines themselves.</summary>
internal static class SourceEndpoints
{
    public static void MapSources(this RouteGroupBuilder api)
    {
        api.MapGet("/sources", async (SourceReader desk, SourceTable reads, CancellationToken stop) =>
            {
                var last = (await reads.AllAsync(stop)).ToDictionary(r => r.Source);
                return desk.Sources.Values.Select(s => Show(s, last.GetValueOrDefault(s.Name), [])).ToArray();
            })
            .WithName("ListSources");
        api.MapPost("/sources/{name}/read", async (string name, SourceReader desk, ClaimsPrincipal caller, CancellationToken stop) =>
            {
                var (read, problems) = await desk.ReadAsync(name, caller.Actor(), stop);
                return Show(desk.Sources[name], read, problems);
            })
            .Lasts()
            .WithName("ReadSource")
            .ProducesProblem(404)
            .ProducesProblem(409)
            .ProducesProblem(502);
    }

    private static SourceView Show(Files.Sources.DirectorySource s, SourceRead? last, IReadOnlyList<string> problems) =>
        new(s.Name, "ldap", $"{s.Server}:{s.Port}", s.Every?.TotalSeconds, last?.At, last?.Machines, last?.Added, last?.Trouble, problems);
}
