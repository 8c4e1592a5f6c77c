using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Identity;
using Skevin.Core.Access;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Access;

/// <summary>E-mail and password.</summary>
public sealed record SignIn(string Email, string Password);

/// <summary>Who is signed in.</summary>
/// <param name="SeenByKeeper">Whether a keeper looks with this person's eyes; then nothing can be changed.</param>
public sealed record SessionView(string Email, string Name, IReadOnlyList<string> Roles, IReadOnlyList<string>? Clusters, IReadOnlyList<string>? Namespaces, bool Demo, bool SeenByKeeper);

/// <summary>What the sign-in page may say: in demo mode the demo's person.</summary>
public sealed record SignInHint(bool Demo, string? Email, string? Password);

/// <summary>Sign in, who am I, sign out.</summary>
public static class SessionEndpoints
{
    /// <summary>Adds identity with its cookie.</summary>
    public static void AddSessions(this IServiceCollection services)
    {
        services.AddIdentityCore<Person>(options =>
            {
                options.Password.RequiredLength = 10;
                options.Password.RequireDigit = options.Password.RequireUppercase = options.Password.RequireNonAlphanumeric = false;
                options.Lockout.MaxFailedAccessAttempts = 10;
                options.User.RequireUniqueEmail = true;
            })
            .AddEntityFrameworkStores<SkevinContext>()
            .AddSignInManager()
            .AddClaimsPrincipalFactory<PersonClaimsFactory>();
        services.AddAuthentication(IdentityConstants.ApplicationScheme).AddCookie(IdentityConstants.ApplicationScheme, cookie =>
        {
            cookie.Cookie.Name = "skevin";
            cookie.Cookie.SameSite = SameSiteMode.Strict;
            cookie.Cookie.HttpOnly = true;
            cookie.ExpireTimeSpan = TimeSpan.FromDays(7);
            cookie.SlidingExpiration = true;
            cookie.Events.OnRedirectToLogin = context => Refuse(context.HttpContext, 401, "Sign in first.", "This needs a signed-in person.");
            cookie.Events.OnRedirectToAccessDenied = context => Refuse(context.HttpContext, 403, "Your role does not allow this.", "Ask a keeper for the role it needs.");
            cookie.Events.OnValidatePrincipal = SecurityStampValidator.ValidatePrincipalAsync;
        });
        // What a keeper changes is in force within a minute; who looks with another's eyes goes on doing so.
        services.Configure<SecurityStampValidatorOptions>(stamps =>
        {
            stamps.ValidationInterval = TimeSpan.FromMinutes(1);
            stamps.OnRefreshingPrincipal = context =>
            {
                if (context.CurrentPrincipal?.FindFirst(PersonClaims.SeenByClaim) is { } seen)
                    ((ClaimsIdentity)context.NewPrincipal!.Identity!).AddClaim(new Claim(seen.Type, seen.Value));
                return Task.CompletedTask;
            };
        });
        services.AddAuthorizationBuilder().SetFallbackPolicy(new Microsoft.AspNetCore.Authorization.AuthorizationPolicyBuilder().RequireAssertion(_ => false).Build());
    }

    /// <summary>Maps the session.</summary>
    public static void MapSessions(this IEndpointRouteBuilder routes)
    {
        routes.MapPost("/api/session", async Task<Results<NoContent, ProblemHttpResult>> (SignIn body, SignInManager<Person> signing, UserManager<Person> people) =>
        {
            var person = await people.FindByEmailAsync(body.Email ?? "");
            var result = person is null ? SignInResult.Failed : await signing.PasswordSignInAsync(person, body.Password ?? "", true, lockoutOnFailure: true);
            return result.Succeeded ? TypedResults.NoContent()
                : result.IsLockedOut ? new Problem(401, "Too many attempts.", "Wait five minutes, then try again.").Http()
                : new Problem(401, "E-mail or password is wrong.", "Check both; passwords distinguish capital letters.").Http();
        }).Open("This is how a person signs in.");
        routes.MapGet("/api/session", async (ClaimsPrincipal user, UserManager<Person> people, SkevinOptions options) =>
        {
            var scope = user.Scope();
            var person = await people.GetUserAsync(user);
            return new SessionView(person?.Email ?? "", user.PersonName(),
                [.. Enum.GetValues<Roles>().Where(role => role is not (Roles.None or Roles.All) && user.Roles().HasFlag(role)).Select(role => role.ToString().ToLowerInvariant())],
                scope.Clusters?.ToArray(), scope.Namespaces?.ToArray(), options.Demo, user.FindFirstValue(PersonClaims.SeenByClaim) is not null);
        }).Needs(Roles.None);
        routes.MapDelete("/api/session", async (SignInManager<Person> signing) =>
        {
            await signing.SignOutAsync();
            return TypedResults.NoContent();
        }).Needs(Roles.None);
        routes.MapGet("/api/session/hint", (SkevinOptions options) => options.Demo
            ? new SignInHint(true, SkevinOptions.DemoPerson, options.DemoPassword)
            : new SignInHint(false, null, null)).Open("The sign-in page shows the demo's person, in demo mode only.");
    }

    private static Task Refuse(HttpContext context, int status, string title, string detail) =>
        new Problem(status, title, detail).Http().ExecuteAsync(context);
}
