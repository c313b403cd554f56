using TideStep.Core.Documents;

namespace TideStep.Service;

/// <summary>Errors as problem details (RFC 9457); every one says what, where, what it means and what to do.</summary>
public static class Answers
{
    /// <summary>One problem.</summary>
    public static IResult Problem(int status, Problem problem) => Problems(status, problem.What, [problem]);

    /// <summary>Several problems at once, as the extension member <c>problems</c>.</summary>
    public static IResult Problems(int status, string title, IEnumerable<Problem> problems)
    {
        var all = problems.ToList();
        return Results.Problem(
            title: title,
            statusCode: status,
            detail: all.Count == 1 ? all[0].Hint : $"{all.Count} problems",
            extensions: new Dictionary<string, object?>
            {
                ["problems"] = all.Select(p => new
                    {
                        p.What,
                        p.Detail,
                        p.Hint,
                        at = p.At is null
                            ? null
                            : new
                            {
                                p.At.File,
                                p.At.Line,
                                p.At.Column,
                            },
                    })
                    .ToArray(),
            }
        );
    }
}
