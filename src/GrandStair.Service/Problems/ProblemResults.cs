using System.Diagnostics;
using GrandStair.Core.Conditions;
using GrandStair.Core.Runs;
using GrandStair.Engine.Plans;
using GrandStair.Files;
using GrandStair.Links;
using GrandStair.Storage.Databases;
using Microsoft.AspNetCore.Diagnostics;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Problems;

/// <summary>Tells errors as problems (RFC 9457) with a stable type <c>urn:grandstair:problem:…</c>.</summary>
internal sealed class ProblemResults(IProblemDetailsService writer, ILogger<ProblemResults> log) : IExceptionHandler
{
    public async ValueTask<bool> TryHandleAsync(HttpContext context, Exception exception, CancellationToken cancellationToken)
    {
        var (status, name, detail) = Tell(exception);
        if (status == StatusCodes.Status500InternalServerError)
            log.LogError(exception, "A call failed: {Method} {Path}", context.Request.Method, context.Request.Path);
        context.Response.StatusCode = status;
        var problem = Of(status, name, detail);
        if (exception is FileException file)
            problem.Extensions["problems"] = file.Problems.Select(p => new { file = p.File, line = p.Line, column = p.Column, message = p.Message });
        if (exception is ConditionException condition) problem.Extensions["column"] = condition.Column;
        if (status == StatusCodes.Status500InternalServerError) problem.Extensions["trace"] = Activity.Current?.Id ?? context.TraceIdentifier;
        await writer.WriteAsync(new() { HttpContext = context, ProblemDetails = problem });
        return true;
    }

    // ENOSPC, as the base library hands it on.
    private const int NoSpaceLeft = 28;

    /// <summary>A problem with our type and words.</summary>
    public static ProblemDetails Of(int status, string name, string detail) => new()
    {
        Status = status,
        Type = $"urn:grandstair:problem:{name}",
        Title = name.Replace('-', ' '),
        Detail = detail,
    };

    private static (int Status, string Name, string Detail) Tell(Exception error) => error switch
    {
        ConditionException e => (400, "condition", e.Message),
        FileException e => (422, "file", string.Join(" ", e.Problems.Select(p => p.ToString()))),
        CommandException { Name: ['u', 'n', 'k', 'n', 'o', 'w', 'n', ..] } e => (404, e.Name, e.Message),
        CommandException e => (409, e.Name, e.Message),
        DecisionRefusedException e => (409, "decision", e.Message),
        LinkException e => (502, e.Name, e.Message),
        StoreException { Name: "plan-exists" or "fix-under-way" } e => (409, e.Name, e.Message),
        StoreException e => (507, e.Name, e.Message),
        IOException { HResult: NoSpaceLeft } => (507, "disk-full", "The data folder cannot be written: its disk is full. Nothing of this call was kept. Make room on the disk, then send it again."),
        BadHttpRequestException e => (e.StatusCode, "request", e.Message),
        _ => (500, "unexpected", "Something went wrong that should not; nothing of the call is known to be kept. The service's log says what, under the trace given here."),
    };
}
