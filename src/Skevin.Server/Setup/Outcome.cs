using Microsoft.AspNetCore.Http.HttpResults;

namespace Skevin.Server.Setup;

/// <summary>Why something was not done, as a person can act on it.</summary>
/// <param name="Status">HTTP status.</param>
/// <param name="Title">What was wrong.</param>
/// <param name="Detail">Where, and what to do.</param>
/// <param name="Errors">Single mistakes, where there are several.</param>
public sealed record Problem(int Status, string Title, string Detail, object? Errors = null);

/// <summary>A value, or why there is none.</summary>
public readonly record struct Outcome<T>(T? Value, Problem? Problem)
{
    /// <summary>A value.</summary>
    public static implicit operator Outcome<T>(T value) => new(value, null);

    /// <summary>A problem.</summary>
    public static implicit operator Outcome<T>(Problem problem) => new(default, problem);

    /// <summary>As an HTTP answer; problems follow RFC 9457.</summary>
    public Results<Ok<T>, ProblemHttpResult> Http() => Problem is null ? TypedResults.Ok(Value) : Problem.Http();
}

/// <summary>Problems as HTTP answers.</summary>
public static class ProblemHttp
{
    /// <summary>Problem details of RFC 9457.</summary>
    public static ProblemHttpResult Http(this Problem problem) => TypedResults.Problem(
        title: problem.Title, detail: problem.Detail, statusCode: problem.Status,
        extensions: problem.Errors is null ? null : new Dictionary<string, object?> { ["errors"] = problem.Errors });

    /// <summary>204, or the problem.</summary>
    public static Results<NoContent, ProblemHttpResult> NoContentOr(this Problem? problem) =>
        problem is null ? TypedResults.NoContent() : problem.Http();
}
