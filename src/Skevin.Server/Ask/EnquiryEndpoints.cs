using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Skevin.Core.Access;
using Skevin.Server.Access;
using Skevin.Server.People;
using Skevin.Server.Setup;

namespace Skevin.Server.Ask;

/// <summary>An enquiry to keep.</summary>
/// <param name="Version">The version it was made from, 0 for a new one.</param>
public sealed record EnquiryRequest(string Title, string About, string Text, int Version = 0);

/// <summary>Kept enquiries.</summary>
public static class EnquiryEndpoints
{
    private static readonly Problem NotThere = new(404, "No such kept enquiry.", "Choose one of the list.");

    /// <summary>Maps its endpoints.</summary>
    public static void MapKeptEnquiries(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/enquiries", (EnquiryBook book, CancellationToken stop) => book.All(stop)).Needs(Roles.Reader);
        routes.MapGet("/api/enquiries/{id}/versions", (string id, EnquiryBook book, CancellationToken stop) => book.Versions(id, stop)).Needs(Roles.Reader);
        routes.MapPost("/api/enquiries", async Task<Results<Created<KeptEnquiry>, ProblemHttpResult>> (EnquiryRequest body, ClaimsPrincipal user, EnquiryBook book, AuditNote note, CancellationToken stop) =>
        {
            note.About = body.Title;
            var kept = await book.Keep(new KeptEnquiry("", body.Title ?? "", body.About ?? "", body.Text ?? ""), user.PersonName(), stop);
            return kept.Problem is { } problem ? problem.Http() : TypedResults.Created($"/api/enquiries/{kept.Value!.Id}", kept.Value);
        }).Needs(Roles.Author).Audits("kept an enquiry");
        routes.MapPut("/api/enquiries/{id}", async Task<Results<Ok<KeptEnquiry>, ProblemHttpResult>> (string id, EnquiryRequest body, ClaimsPrincipal user, EnquiryBook book, AuditNote note, CancellationToken stop) =>
        {
            (note.About, note.Detail) = (body.Title, $"version {body.Version + 1}");
            return await book.Find(id, stop) is null || body.Version < 1 ? NotThere.Http() : (await book.Keep(new KeptEnquiry(id, body.Title ?? "", body.About ?? "", body.Text ?? "", body.Version), user.PersonName(), stop)).Http();
        }).Needs(Roles.Author).Audits("changed a kept enquiry");
        routes.MapDelete("/api/enquiries/{id}", async Task<Results<NoContent, ProblemHttpResult>> (string id, ClaimsPrincipal user, EnquiryBook book, AuditNote note, CancellationToken stop) =>
        {
            note.About = await book.Remove(id, user.PersonName(), stop);
            return note.About is null ? NotThere.Http() : TypedResults.NoContent();
        }).Needs(Roles.Author).Audits("took out a kept enquiry");
    }
}
