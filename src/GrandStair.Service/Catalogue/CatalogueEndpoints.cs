using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Service.Readiness;
using GrandStair.Service.Requests;

namespace GrandStair.Service.Catalogue;

/// <summary>The products that the service knows.</summary>
internal static class CatalogueEndpoints
{
    public static void MapCatalogue(this RouteGroupBuilder api)
    {
        api.MapGet("/catalogue/changes", (CatalogueCache catalogues) => catalogues.Waiting.Values.Select(Show).ToArray())
            .WithName("ListCatalogueChanges");
        api.MapPost(
                "/catalogue/changes/{product}/approve",
                async (
                    string product,
                    ApproveCommand command,
                    CatalogueCache catalogues,
                    DomainClock clock,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    await catalogues.ApproveAsync(
                        product,
                        command.Hash,
                        RequestFields.Reason(command.Reason),
                        caller.Actor(),
                        clock.GetUtcNow(),
                        stop
                    );
                    return Results.NoContent();
                }
            )
            .WithName("ApproveCatalogue")
            .Produces(204)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapGet("/catalogue", (CatalogueCache catalogues) => catalogues.Products.Values.Select(Show).ToArray()).WithName("ListProducts");
    }

    private static CatalogueChangeView Show(WaitingContent w) =>
        new(
            w.Content.Product,
            w.Content.Hash,
            w.Found,
            [
                .. w.Changes.Select(c => new FileChangeView(
                    c.File,
                    c.Before is null ? "added"
                        : c.After is null ? "removed"
                        : "changed",
                    c.Before,
                    c.After,
                    c.Lines
                )),
            ]
        );

    private static ProductView Show(Product p) =>
        new(
            p.Name,
            p.Hash,
            p.Editions,
            [.. p.Components.Select(x => x.Name)],
            [
                .. p.Releases.Select(r => new ReleaseView(
                    r.Version,
                    r.Name,
                    RunMachine.Name(r.Status),
                    Day(r.Out),
                    r.SupportEnds.ToDictionary(e => e.Key, e => Day(e.Value)!),
                    [.. r.Builds.Select(b => new BuildView(b.Version, Day(b.Out), b.Notes))],
                    [.. r.MustReads.Select(m => new MustReadView(m.Name, m.Title, m.Words))]
                )),
            ],
            [
                .. p.KnownIssues.Select(i => new IssueView(
                    i.Name,
                    i.Title,
                    i.Release,
                    RunMachine.Name(i.Need),
                    i.Touches.Text,
                    i.Since,
                    i.FixedIn,
                    ReadinessEndpoints.Show(i.Fix)
                )),
            ],
            [.. p.Hops.Select(h => new HopView(h.Name, h.Component, h.From, h.To, h.Editions, h.Checks.Length))],
            [
                .. p.Methods.Select(m => new MethodView(
                    m.Name,
                    m.Title,
                    RunMachine.Name(m.Way),
                    m.Hops,
                    m.Suits?.Text,
                    RunMachine.Name(m.Preserves),
                    m.Needs.Media,
                    m.Needs.Crew,
                    m.Needs.OwnerPresent,
                    m.Typical.Slot.TotalMinutes,
                    m.Rollback.Words
                )),
            ]
        );

    private static string? Day(DateOnly? day) => day?.ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
}
