using System.CommandLine;
using System.CommandLine.Parsing;
using TideStep.Cli;
using TideStep.Cli.Commands;

var context = new Context();
var root = new RootCommand(
    "Tide Step: plans an upgrade of many components on many nodes, and runs it without breaking what people depend on."
);
root.Options.Add(context.Format);
root.Options.Add(context.Server);
foreach (
    var command in (Command[])
        [
            .. EstateCommands.Create(context),
            PathCommand.Create(context),
            PlanCommands.Create(context),
            CheckCommands.Create(context),
            ArtefactCommands.Create(context),
            SecretCommands.Create(context),
            RehearseCommands.Create(context),
            NoticeCommands.Create(context),
            FollowUpCommands.Create(context),
            KeepingCommands.Create(context),
            .. SignInCommands.Create(context),
            PersonCommands.Create(context),
            TokenCommands.Create(context),
            RecordCommands.Create(context),
            .. RunCommands.Create(context),
        ]
)
    root.Subcommands.Add(command);
var parsed = root.Parse(args);
if (parsed.Errors.Count > 0)
{
    foreach (var error in parsed.Errors)
        Console.Error.WriteLine(error.Message);
    Console.Error.WriteLine("See 'tidestep --help', or add --help to the command.");
    return Exit.Misused;
}

// An argument that is there and empty names nothing; a variable that was not set is what mostly makes one.
foreach (
    var argument in parsed
        .CommandResult.Children.OfType<ArgumentResult>()
        .Where(a => a.Tokens.Any(t => t.Value.Trim().Length == 0))
)
{
    Console.Error.WriteLine($"{argument.Argument.Name.ToUpperInvariant()} is empty");
    Console.Error.WriteLine("See 'tidestep --help', or add --help to the command.");
    return Exit.Misused;
}
return await parsed.InvokeAsync();
