using System.Text;
using TideStep.Connectors;
using TideStep.Core.Documents;

namespace TideStep.Service.Routes;

/// <summary>A secret's value; it goes in and never comes out.</summary>
public sealed record SecretValue(string Value);

/// <summary>How many secrets were sealed under a new key.</summary>
public sealed record SealedAnew(int Secrets);

/// <summary>Routes of the service's own store of secrets.</summary>
public static class SecretRoutes
{
    public static void MapSecrets(this RouteGroupBuilder api)
    {
        api.MapGet("/secrets", (SecretVault vault) => vault.Names)
            .Produces<string[]>()
            .WithSummary("The names of the secrets that the service keeps; never a value");
        api.MapPut("/secrets/{name}", (string name, SecretValue secret, SecretVault vault) =>
            {
                if (secret.Value.Length == 0)
                    return Answers.Problem(
                        422,
                        new Problem("an empty secret is none", null, "Give it up with DELETE if that is meant.")
                    );
                try
                {
                    vault.Keep(name, Encoding.UTF8.GetBytes(secret.Value));
                }
                catch (ConnectorException e)
                {
                    return Answers.Problem(422, e.Problem);
                }
                return Results.NoContent();
            })
            .Produces(204)
            .WithSummary("Keep a secret, encrypted, under a name");
        api.MapDelete("/secrets/{name}", (string name, SecretVault vault) =>
                vault.Remove(name)
                    ? Results.NoContent()
                    : Answers.Problem(
                        404,
                        new Problem($"no secret '{name}' is kept", null, Nearest.Hint(name, vault.Names))
                    )
            )
            .Produces(204)
            .WithSummary("Give a secret up");
        api.MapPost("/secrets/rotation", (SecretVault vault) =>
            {
                try
                {
                    return Results.Ok(new SealedAnew(vault.Rotate()));
                }
                catch (ConnectorException e)
                {
                    return Answers.Problem(409, e.Problem);
                }
            })
            .Produces<SealedAnew>()
            .ProducesProblem(409)
            .WithSummary("Seal all secrets under a new key");
    }
}
