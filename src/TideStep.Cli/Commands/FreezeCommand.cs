using System.CommandLine;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Tables;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep estate freezes</c>: times in which nothing may be changed, out of somebody's calendar; shown
/// first, and written only when told so.</summary>
public static class FreezeCommand
{
    private static readonly Argument<string> Calendar = new("calendar") { Description = "an iCalendar file (.ics)" };
    private static readonly Option<string> Document = new("--estate")
    {
        Description = "the estate's document",
        Required = true,
    };
    private static readonly Option<bool> Write = new("--write")
    {
        Description = "confirm them: write them into the estate's document",
    };

    public static Command Create(Context context) =>
        context.Command(
            "freezes",
            "Freezes out of a calendar; they are shown, and written only with --write",
            (result, output, _) =>
            {
                var (path, file, problems) = (
                    result.GetValue(Document)!,
                    result.GetValue(Calendar)!,
                    new List<Problem>()
                );
                var (text, calendar) = (Files.Text(path, problems), Files.Text(file, problems));
                if (problems.Count > 0)
                    throw new MisusedException(problems);
                var estate = EstateDocument.Read(text, path).Value
                    ?? throw new MisusedException(EstateDocument.Read(text, path).Problems);
                var read = CalendarFile.Freezes(
                    file,
                    calendar,
                    TimeZoneInfo.FindSystemTimeZoneById(estate.Zone),
                    DateOnly.FromDateTime(Times.Now.DateTime)
                );
                var known = estate.Freezes.Select(f => (f.From, f.To)).ToHashSet();
                var fresh = (read.Value ?? throw new MisusedException(read.Problems))
                    .Where(f => !known.Contains((f.From, f.To)))
                    .ToList();
                output.Write(fresh, () =>
                {
                    output.Heading($"{fresh.Count} freezes of {file} that {path} does not have:");
                    foreach (var freeze in fresh)
                        output.Line($"  {freeze.Line()}");
                });
                if (!result.GetValue(Write))
                {
                    if (output.ForPeople)
                        output.Line("Nothing was written; confirm with --write.");
                }
                else if (fresh.Count > 0)
                {
                    var written = Freeze.Into(text, path, fresh);
                    File.WriteAllText(path + ".new", written.Value ?? throw new MisusedException(written.Problems));
                    File.Move(path + ".new", path, overwrite: true);
                    output.Line(
                        $"{fresh.Count} freezes were written into {path}; import it: tidestep estate import {path}"
                    );
                }
                return Task.FromResult(Exit.Done);
            },
            Calendar,
            Document,
            Write
        );
}
