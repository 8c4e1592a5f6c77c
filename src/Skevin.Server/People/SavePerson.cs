using System.Security.Cryptography;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.People;

/// <summary>What a person may do and see.</summary>
/// <param name="Roles">reader, responder, author, installer, keeper.</param>
/// <param name="Clusters">Names of clusters; null for all.</param>
/// <param name="Namespaces">Names of namespaces; null for whole clusters.</param>
public sealed record PersonRequest(string Email, string Name, IReadOnlyList<string> Roles, IReadOnlyList<string>? Clusters, IReadOnlyList<string>? Namespaces);

/// <summary>A person.</summary>
/// <param name="LockedUntil">Too many wrong passwords: until when.</param>
/// <param name="You">Whether this is who asks.</param>
public sealed record PersonView(string Id, string Email, string Name, IReadOnlyList<string> Roles, IReadOnlyList<string>? Clusters, IReadOnlyList<string>? Namespaces, DateTimeOffset? LockedUntil, bool You);

/// <summary>A person who was made, or got a new password, which is shown once.</summary>
public sealed record PersonWithPassword(string Id, string Password);

/// <summary>Makes people, changes what they may do and see, and takes them out.</summary>
public sealed class SavePerson(UserManager<Person> people)
{
    private static readonly Problem LastKeeper = new(409, "Nobody would be left to keep the people.", "Give another person the keeper's role, without limits, first.");

    /// <summary>Makes a person with a password that is drawn.</summary>
    public async Task<Outcome<PersonWithPassword>> Make(PersonRequest request)
    {
        if (Wrong(request) is { } wrong)
            return wrong;
        var person = new Person { UserName = request.Email.Trim(), Email = request.Email.Trim() };
        Fill(person, request);
        var password = Draw();
        var made = await people.CreateAsync(person, password);
        return made.Succeeded ? new PersonWithPassword(person.Id, password)
            : new Problem(made.Errors.Any(error => error.Code.StartsWith("Duplicate", StringComparison.Ordinal)) ? 409 : 400, "The person cannot be made.", string.Join(" ", made.Errors.Select(error => error.Description)));
    }

    /// <summary>Changes a person; it is in force within a minute, wherever they are signed in.</summary>
    public async Task<Problem?> Change(string id, PersonRequest request)
    {
        if (await people.FindByIdAsync(id) is not { } person)
            return NotThere;
        if (Wrong(request) is { } wrong)
            return wrong;
        if (IsKeeper(person) && !(RolesOf(request.Roles).HasFlag(Roles.Keeper) && request.Clusters is null && request.Namespaces is null) && await IsLastKeeper(person))
            return LastKeeper;
        Fill(person, request);
        (person.UserName, person.Email) = (request.Email.Trim(), request.Email.Trim());
        var saved = await people.UpdateAsync(person);
        if (!saved.Succeeded)
            return new Problem(400, "The person cannot be changed.", string.Join(" ", saved.Errors.Select(error => error.Description)));
        await people.UpdateSecurityStampAsync(person);
        return null;
    }

    /// <summary>Gives a person a new password that is drawn; they are signed out everywhere within a minute.</summary>
    public async Task<Outcome<PersonWithPassword>> NewPassword(string id)
    {
        if (await people.FindByIdAsync(id) is not { } person)
            return NotThere;
        var password = Draw();
        await people.RemovePasswordAsync(person);
        await people.AddPasswordAsync(person, password);
        await people.SetLockoutEndDateAsync(person, null);
        await people.UpdateSecurityStampAsync(person);
        return new PersonWithPassword(id, password);
    }

    /// <summary>Takes a person out.</summary>
    /// <param name="id">Whom.</param>
    /// <param name="by">Who does it.</param>
    public async Task<Problem?> Remove(string id, string by)
    {
        if (await people.FindByIdAsync(id) is not { } person)
            return NotThere;
        if (id == by)
            return new Problem(409, "You cannot take out yourself.", "Another keeper can.");
        if (IsKeeper(person) && await IsLastKeeper(person))
            return LastKeeper;
        await people.DeleteAsync(person);
        return null;
    }

    /// <summary>Roles by their names; what is no role counts as none.</summary>
    public static Roles RolesOf(IEnumerable<string> names) => names.Aggregate(Roles.None, (all, name) => Enum.TryParse<Roles>(name, true, out var role) ? all | role : all);

    /// <summary>Names of roles.</summary>
    public static IReadOnlyList<string> Names(Roles roles) =>
        [.. Enum.GetValues<Roles>().Where(role => role is not (Roles.None or Roles.All) && roles.HasFlag(role)).Select(role => role.ToString().ToLowerInvariant())];

    private static readonly Problem NotThere = new(404, "No such person.", "They may have been taken out meanwhile.");

    private static Problem? Wrong(PersonRequest request) =>
        string.IsNullOrWhiteSpace(request.Email) || request.Email.Trim() is var email && (!email.Contains('@') || email.Contains(' ')) ? new Problem(400, "This is no e-mail address.", "It is what the person signs in with.")
        : string.IsNullOrWhiteSpace(request.Name) ? new Problem(400, "The name is missing.", "It stands beside what the person did.")
        : (request.Roles ?? []).FirstOrDefault(name => !Names(Roles.All).Contains(name)) is { } strange ? new Problem(400, $"'{strange}' is no role.", $"Roles are {string.Join(", ", Names(Roles.All))}.")
        : null;

    private static void Fill(Person person, PersonRequest request)
    {
        (person.Name, person.Roles) = (request.Name.Trim(), RolesOf(request.Roles ?? []));
        (person.Clusters, person.Namespaces) = (request.Clusters?.ToList(), request.Namespaces?.ToList());
    }

    private static bool IsKeeper(Person person) => person.Roles.HasFlag(Roles.Keeper) && person is { Clusters: null, Namespaces: null };

    private async Task<bool> IsLastKeeper(Person person) => !(await people.Users.Where(other => other.Id != person.Id).ToListAsync()).Any(IsKeeper);

    // Sixteen letters of thirty-two: eighty bits, without letters that look alike.
    private static string Draw() => RandomNumberGenerator.GetString("abcdefghjkmnpqrstuvwxyz23456789ABC", 16);
}
