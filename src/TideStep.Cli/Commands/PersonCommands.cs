using System.CommandLine;
using System.Text.Json;
using TideStep.Client;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep person</c>: who may come in, and with which roles.</summary>
public static class PersonCommands
{
    private const string RolesAre =
        "look, survey, plan, run, sign, keep or administer; for one estate as in run@ESTATE";

    public static Command Create(Context context)
    {
        var person = new Command("person", "People who may come in, and their roles");
        person.Subcommands.Add(context.Remote("list", "Everybody, with their roles", async (_, client, output, ct) =>
            {
                var people = await client.GetAsync<List<PersonView>>("/api/people", ct);
                output.Write(people, () =>
                {
                    if (people.Count == 0)
                        output.Line("Nobody yet: whoever has the key in the data folder acts by any name they say.");
                    else
                        output.Table(
                            ["person", "roles", "state", "since", "identifier"],
                            people.Select(p =>
                                new[]
                                {
                                    p.Name,
                                    string.Join(", ", p.Roles),
                                    p.State,
                                    $"{(p.RemovedAt ?? p.MadeAt).ToLocalTime():yyyy-MM-dd}",
                                    p.Id,
                                }
                            )
                        );
                });
                return Exit.Done;
            }));
        person.Subcommands.Add(Invite(context));
        person.Subcommands.Add(InviteAgain(context));
        person.Subcommands.Add(Roles(context));
        person.Subcommands.Add(Remove(context));
        return person;
    }

    private static Command Invite(Context context)
    {
        var name = new Argument<string>("name") { Description = "their name; it is never given to anybody else" };
        var roles = new Option<string[]>("--role")
        {
            Description = RolesAre,
            AllowMultipleArgumentsPerToken = true,
            Required = true,
        };
        return context.Remote(
            "invite",
            "Let somebody in: prints the link by which they choose a password",
            async (result, client, output, ct) =>
            {
                var invited = (
                    await client.PostAsync(
                        "/api/people",
                        new { name = result.GetValue(name), roles = result.GetValue(roles) },
                        ct
                    )
                ).Deserialize<InvitedView>(Json.Options)!;
                Tell(invited, output);
                return Exit.Done;
            },
            name,
            roles
        );
    }

    private static Command InviteAgain(Context context)
    {
        var who = Who();
        return context.Remote(
            "invite-again",
            "A new link for somebody who lost the first or forgot their password, which counts no more",
            async (result, client, output, ct) =>
            {
                var id = await IdOfAsync(client, result.GetValue(who)!, ct);
                var invited = (
                    await client.PostAsync($"/api/people/{id}/invitations", null, ct)
                ).Deserialize<InvitedView>(Json.Options)!;
                Tell(invited, output);
                return Exit.Done;
            },
            who
        );
    }

    private static Command Roles(Context context)
    {
        var who = Who();
        var roles = new Option<string[]>("--role")
        {
            Description = $"{RolesAre}; all that they are to have",
            AllowMultipleArgumentsPerToken = true,
        };
        return context.Remote(
            "roles",
            "Give somebody other roles; their sessions end, a run that they started goes on",
            async (result, client, output, ct) =>
            {
                var id = await IdOfAsync(client, result.GetValue(who)!, ct);
                await client.PutAsync($"/api/people/{id}", new { roles = result.GetValue(roles) ?? [] }, ct);
                var has = result.GetValue(roles) is { Length: > 0 } some ? string.Join(", ", some) : "no role";
                output.Line($"{result.GetValue(who)} has {has}, and signs in anew.");
                return Exit.Done;
            },
            who,
            roles
        );
    }

    private static Command Remove(Context context)
    {
        var who = Who();
        return context.Remote(
            "remove",
            "Let somebody in no more; what they did keeps their name",
            async (result, client, output, ct) =>
            {
                await client.DeleteAsync($"/api/people/{await IdOfAsync(client, result.GetValue(who)!, ct)}", ct);
                output.Line($"{result.GetValue(who)} comes in no more.");
                return Exit.Done;
            },
            who
        );
    }

    private static Argument<string> Who() => new("person") { Description = "their name, or their identifier" };

    private static async Task<string> IdOfAsync(ServiceClient client, string who, CancellationToken ct)
    {
        var people = await client.GetAsync<List<PersonView>>("/api/people", ct);
        return people
            .FirstOrDefault(p => p.Id == who || string.Equals(p.Name, who, StringComparison.OrdinalIgnoreCase))
            ?.Id
            ?? throw new MisusedException([
                new Problem(
                    $"there is no person '{who}'",
                    null,
                    Nearest.Hint(who, people.Select(p => p.Name)) ?? "See 'tidestep person list'."
                ),
            ]);
    }

    private static void Tell(InvitedView invited, Output output) => output.Write(invited, () =>
        {
            output.Line($"{invited.Person.Name} is invited until {invited.Until.ToLocalTime():yyyy-MM-dd HH:mm}:");
            output.Line(invited.Link);
            output.Line("Give the link to nobody else; it is not shown again.");
        });
}
