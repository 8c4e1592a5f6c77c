using System.Security.Claims;
using Microsoft.AspNetCore.Identity;
using Microsoft.Extensions.Options;
using Skevin.Core.Access;
using Skevin.Storage;

namespace Skevin.Server.Access;

/// <summary>The role an endpoint needs; 0 for every signed-in person.</summary>
public sealed record NeededRole(Roles Role);

/// <summary>Marks an endpoint that is open without sign-in, and says why.</summary>
public sealed record OpenBecause(string Reason);

/// <summary>How endpoints state who may call them. One that states nothing is closed.</summary>
public static class EndpointAccess
{
    /// <summary>Only people with the role.</summary>
    public static RouteHandlerBuilder Needs(this RouteHandlerBuilder endpoint, Roles role) => endpoint
        .WithMetadata(new NeededRole(role))
        .RequireAuthorization(policy => policy.RequireAuthenticatedUser().RequireAssertion(context => role == Roles.None || context.User.Roles().HasFlag(role)));

    /// <summary>Without sign-in, for a stated reason.</summary>
    public static T Open<T>(this T endpoint, string reason) where T : IEndpointConventionBuilder =>
        endpoint.WithMetadata(new OpenBecause(reason)).AllowAnonymous();
}

/// <summary>What the cookie says of a person.</summary>
public static class PersonClaims
{
    internal const string RolesClaim = "skevin:roles";
    internal const string NameClaim = "skevin:name";
    internal const string ClusterClaim = "skevin:cluster";
    internal const string NamespaceClaim = "skevin:namespace";

    // Number of the keeper who looks with this person's eyes.
    internal const string SeenByClaim = "skevin:seen-by";

    /// <summary>What they may do.</summary>
    public static Roles Roles(this ClaimsPrincipal user) =>
        Enum.TryParse<Roles>(user.FindFirstValue(RolesClaim), out var roles) ? roles : Core.Access.Roles.None;

    /// <summary>What they may see.</summary>
    public static AccessScope Scope(this ClaimsPrincipal user) => new(Set(user, ClusterClaim), Set(user, NamespaceClaim));

    /// <summary>Their name.</summary>
    public static string PersonName(this ClaimsPrincipal user) => user.FindFirstValue(NameClaim) ?? "";

    /// <summary>Their number.</summary>
    public static string PersonId(this ClaimsPrincipal user) => user.FindFirstValue(ClaimTypes.NameIdentifier) ?? "";

    /// <summary>The scope of a person as stored.</summary>
    public static AccessScope ScopeOf(Person person) => new(person.Clusters?.ToHashSet(), person.Namespaces?.ToHashSet());

    // A single empty claim marks "none at all"; no claim marks "all".
    private static HashSet<string>? Set(ClaimsPrincipal user, string claim)
    {
        var values = user.FindAll(claim).Select(found => found.Value).ToArray();
        return values.Length == 0 ? null : [.. values.Where(value => value.Length > 0)];
    }
}

/// <summary>Writes a person's roles and scope into their cookie.</summary>
public sealed class PersonClaimsFactory(UserManager<Person> people, IOptions<IdentityOptions> options)
    : UserClaimsPrincipalFactory<Person>(people, options)
{
    /// <inheritdoc/>
    protected override async Task<ClaimsIdentity> GenerateClaimsAsync(Person user)
    {
        var identity = await base.GenerateClaimsAsync(user);
        identity.AddClaim(new Claim(PersonClaims.RolesClaim, ((int)user.Roles).ToString(System.Globalization.CultureInfo.InvariantCulture)));
        identity.AddClaim(new Claim(PersonClaims.NameClaim, user.Name));
        foreach (var (claim, values) in new[] { (PersonClaims.ClusterClaim, user.Clusters), (PersonClaims.NamespaceClaim, user.Namespaces) })
            if (values is not null)
                foreach (var value in values.DefaultIfEmpty(""))
                    identity.AddClaim(new Claim(claim, value));
        return identity;
    }
}
