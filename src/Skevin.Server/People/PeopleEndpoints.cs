using System.Security.Claims;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Server.Access;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.People;

/// <summary>With whose eyes to look.</summary>
public sealed record SeeAsRequest(string Id);

/// <summary>A person's own new password.</summary>
public sealed record PasswordRequest(string Current, string New);

/// <summary>People, what they may do and see, and what they did.</summary>
public static class PeopleEndpoints
{
    /// <summary>Adds its services.</summary>
    public static void AddPeople(this IServiceCollection services) => services.AddScoped<SavePerson>().AddScoped<AuditNote>().AddSingleton<AuditLog>();

    /// <summary>Maps its endpoints.</summary>
    public static void MapPeople(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/people", async (ClaimsPrincipal user, UserManager<Person> people, TimeProvider clock) =>
            (await people.Users.OrderBy(person => person.Name).ToListAsync()).Select(person => new PersonView(person.Id, person.Email ?? "", person.Name, SavePerson.Names(person.Roles), person.Clusters, person.Namespaces,
                person.LockoutEnd > clock.GetUtcNow() ? person.LockoutEnd : null, person.Id == user.PersonId())).ToArray()).Needs(Roles.Keeper);
        routes.MapPost("/api/people", async Task<Results<Created<PersonWithPassword>, ProblemHttpResult>> (PersonRequest body, SavePerson save, AuditNote note) =>
        {
            (note.About, note.Detail) = (body.Email, Written(body));
            var made = await save.Make(body);
            return made.Problem is { } problem ? problem.Http() : TypedResults.Created($"/api/people/{made.Value!.Id}", made.Value);
        }).Needs(Roles.Keeper).Audits("made a person");
        routes.MapPut("/api/people/{id}", async Task<Results<NoContent, ProblemHttpResult>> (string id, PersonRequest body, SavePerson save, AuditNote note) =>
        {
            (note.About, note.Detail) = (body.Email, Written(body));
            return (await save.Change(id, body)).NoContentOr();
        }).Needs(Roles.Keeper).Audits("changed a person");
        routes.MapPost("/api/people/{id}/password", async Task<Results<Ok<PersonWithPassword>, ProblemHttpResult>> (string id, SavePerson save, UserManager<Person> people, AuditNote note) =>
        {
            note.About = (await people.FindByIdAsync(id))?.Email;
            return (await save.NewPassword(id)).Http();
        }).Needs(Roles.Keeper).Audits("gave a person a new password");
        routes.MapDelete("/api/people/{id}", async Task<Results<NoContent, ProblemHttpResult>> (string id, ClaimsPrincipal user, SavePerson save, UserManager<Person> people, AuditNote note) =>
        {
            note.About = (await people.FindByIdAsync(id))?.Email;
            return (await save.Remove(id, user.PersonId())).NoContentOr();
        }).Needs(Roles.Keeper).Audits("took out a person");
        routes.MapGet("/api/audit", (long? before, string? text, AuditLog log, CancellationToken stop) => log.Read(before, text, stop)).Needs(Roles.Keeper);
        routes.MapPost("/api/session/password", async Task<Results<NoContent, ProblemHttpResult>> (PasswordRequest body, ClaimsPrincipal user, UserManager<Person> people, SignInManager<Person> signing) =>
        {
            var person = await people.GetUserAsync(user);
            var changed = await people.ChangePasswordAsync(person!, body.Current ?? "", body.New ?? "");
            if (!changed.Succeeded)
                return new Problem(400, "The password is not changed.", string.Join(" ", changed.Errors.Select(error => error.Description))).Http();
            await signing.RefreshSignInAsync(person!);
            return TypedResults.NoContent();
        }).Needs(Roles.None).Audits("changed their own password");
        routes.MapPost("/api/session/as", async Task<Results<NoContent, ProblemHttpResult>> (SeeAsRequest body, ClaimsPrincipal user, UserManager<Person> people, SignInManager<Person> signing, HttpContext context, AuditNote note) =>
        {
            if (await people.FindByIdAsync(body.Id ?? "") is not { } person)
                return new Problem(404, "No such person.", "They may have been taken out meanwhile.").Http();
            note.About = person.Email;
            var seen = await signing.CreateUserPrincipalAsync(person);
            ((ClaimsIdentity)seen.Identity!).AddClaim(new Claim(PersonClaims.SeenByClaim, user.PersonId()));
            await context.SignInAsync(IdentityConstants.ApplicationScheme, seen);
            return TypedResults.NoContent();
        }).Needs(Roles.Keeper).Audits("looked with a person's eyes");
        routes.MapDelete("/api/session/as", async Task<Results<NoContent, ProblemHttpResult>> (ClaimsPrincipal user, UserManager<Person> people, SignInManager<Person> signing) =>
        {
            if (user.FindFirstValue(PersonClaims.SeenByClaim) is not { } id || await people.FindByIdAsync(id) is not { } keeper)
                return new Problem(409, "You look with your own eyes.", "There is nothing to go back from.").Http();
            await signing.SignInAsync(keeper, isPersistent: true);
            return TypedResults.NoContent();
        }).Needs(Roles.None);
    }

    private static string Written(PersonRequest body) =>
        $"{string.Join(", ", (body.Roles ?? []).DefaultIfEmpty("no role"))}; {(body.Clusters is { } clusters ? "clusters " + string.Join(", ", clusters.DefaultIfEmpty("none")) : "all clusters")}; {(body.Namespaces is { } namespaces ? "namespaces " + string.Join(", ", namespaces.DefaultIfEmpty("none")) : "all namespaces")}";
}
