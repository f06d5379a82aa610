using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using GrandStair.Connections;
using GrandStair.Core.Conditions;
using GrandStair.Core.Refusals;
using GrandStair.Core.Waves;
using GrandStair.Files;
using GrandStair.Service.Access;
using GrandStair.Storage.Databases;
using Microsoft.AspNetCore.Diagnostics;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Problems;

/// <summary>Reports errors as problems (RFC 9457) with a stable type <c>urn:grandstair:problem:…</c>.</summary>
internal sealed class ProblemResults(IProblemDetailsService writer, ILogger<ProblemResults> log) : IExceptionHandler
{
    public async ValueTask<bool> TryHandleAsync(HttpContext context, Exception exception, CancellationToken cancellationToken)
    {
        var (status, name, detail) = Tell(exception);
        if (status == StatusCodes.Status500InternalServerError)
            log.LogError(exception, "A call failed: {Method} {Path}", context.Request.Method, context.Request.Path);
        if (exception is NotAllowedException && context.User is CallerPrincipal { Caller: var caller })
        {
            await CallRights.RefuseAsync(context, caller, detail);
            return true;
        }

        if (exception is WaitException wait)
            context.Response.Headers.RetryAfter = Math.Ceiling(wait.Wait.TotalSeconds).ToString(CultureInfo.InvariantCulture);
        context.Response.StatusCode = status;
        var problem = Of(status, name, detail);
        if (exception is FileException file)
            problem.Extensions["problems"] = file.Problems.Select(p => new
            {
                file = p.File,
                line = p.Line,
                column = p.Column,
                message = p.Message,
            });
        if (exception is ConditionException condition)
            problem.Extensions["column"] = condition.Column;
        if (status == StatusCodes.Status500InternalServerError)
            problem.Extensions["trace"] = Activity.Current?.Id ?? context.TraceIdentifier;
        await writer.WriteAsync(new() { HttpContext = context, ProblemDetails = problem });
        return true;
    }

    // ENOSPC, as the base library hands it on.
    private const int NoSpaceLeft = 28;

    /// <summary>A problem with our type and words.</summary>
    public static ProblemDetails Of(int status, string name, string detail) =>
        new()
        {
            Status = status,
            Type = $"urn:grandstair:problem:{name}",
            Title = name.Replace('-', ' '),
            Detail = detail,
        };

    /// <summary>Answers a call with a problem, outside an endpoint.</summary>
    public static Task WriteAsync(HttpContext context, int status, string name, string detail)
    {
        context.Response.StatusCode = status;
        return context.Response.WriteAsJsonAsync(Of(status, name, detail), options: null, contentType: "application/problem+json");
    }

    /// <summary>What is wrong with JSON, without the names of our types.</summary>
    private static string Plainly(JsonException error)
    {
        if (error.Message.Contains("missing required properties", StringComparison.Ordinal))
            return $"it lacks {error.Message[(error.Message.LastIndexOf(':') + 1)..].Trim().TrimEnd('.')}.";
        return error.Path is { Length: > 1 } path && error.LineNumber is not null
            ? $"{path[2..]} is of another kind than expected (line {error.LineNumber + 1}, byte {error.BytePositionInLine})."
            : "it is no JSON that can be read.";
    }

    private static int StatusOf(RefusalKind kind) =>
        kind switch
        {
            RefusalKind.Invalid => StatusCodes.Status400BadRequest,
            RefusalKind.Unknown => StatusCodes.Status404NotFound,
            RefusalKind.Conflict => StatusCodes.Status409Conflict,
            _ => throw new ArgumentOutOfRangeException(nameof(kind)),
        };

    private static (int Status, string Name, string Detail) Tell(Exception error) =>
        error switch
        {
            ConditionException e => (400, "condition", e.Message),
            FileException e => (422, "file", string.Join(" ", e.Problems.Select(p => p.ToString()))),
            CalendarException e => (409, "calendar", e.Message),
            WaitException e => (429, "wait", e.Message),
            NotAllowedException e => (403, "not-allowed", e.Message),
            RefusedException e => (StatusOf(e.Kind), e.Name, e.Message),
            ConnectionException e => (502, e.Name, e.Message),
            StoreException { Name: "disk-full" } e => (507, e.Name, e.Message),
            StoreException e => (503, e.Name, e.Message),
            IOException { HResult: NoSpaceLeft } => (
                507,
                "disk-full",
                "The data folder cannot be written: its disk is full. Nothing of this call was kept. Make room on the disk, then send "
                    + "it again."
            ),
            BadHttpRequestException { InnerException: JsonException e } => (
                400,
                "body",
                $"The body is not what this call takes: {Plainly(e)} schemas/openapi.json says what is expected."
            ),
            BadHttpRequestException e => (e.StatusCode, "request", e.Message),
            _ => (
                500,
                "unexpected",
                "Something went wrong that should not; nothing of the call is known to be kept. The service's log says what, under the "
                    + "trace given here."
            ),
        };
}
