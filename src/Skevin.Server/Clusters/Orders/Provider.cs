using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using System.Text.Json.Serialization;
using Skevin.Core.Clusters;
using Skevin.Server.Setup;

namespace Skevin.Server.Clusters.Orders;

/// <summary>A stage of building, as the provider tells it.</summary>
/// <param name="State">waiting, going, done or failed.</param>
/// <param name="Detail">How far it is, or why it failed and what to do.</param>
public sealed record BuildStage(string Name, string State, string Detail);

/// <summary>What a provider says of a cluster.</summary>
/// <param name="Kubeconfig">Credentials, as soon as its API can be reached; null before.</param>
public sealed record ProvidedCluster(IReadOnlyList<BuildStage> Stages, string? Kubeconfig);

/// <summary>Speaks the protocol of docs/formats/cluster-order.md with the provider of machines.</summary>
public sealed class Provider(IHttpClientFactory clients, SkevinOptions options)
{
    /// <summary>Name of its HTTP client.</summary>
    public const string Client = "provider";

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { Converters = { new JsonStringEnumConverter(JsonNamingPolicy.CamelCase) } };

    private static readonly Problem None = new(409, "No provider is set.", "Clusters are ordered from a provider of machines. Set SKEVIN_PROVIDER to its address (see docs/formats/cluster-order.md) and start the server again, or connect a cluster that is there.");

    /// <summary>What can be ordered.</summary>
    public Task<Outcome<OrderOffers>> Offers(CancellationToken stop) => Send<OrderOffers>(HttpMethod.Get, "offers", null, stop);

    /// <summary>Places an order.</summary>
    public async Task<Problem?> Order(ClusterOrder order, CancellationToken stop) => (await Send<object>(HttpMethod.Post, "clusters", order, stop)).Problem;

    /// <summary>How far a cluster is.</summary>
    public Task<Outcome<ProvidedCluster>> Cluster(string name, CancellationToken stop) => Send<ProvidedCluster>(HttpMethod.Get, "clusters/" + Uri.EscapeDataString(name), null, stop);

    /// <summary>Takes a cluster and its machines away. One that is gone already is no problem.</summary>
    public async Task<Problem?> Remove(string name, CancellationToken stop) =>
        (await Send<object>(HttpMethod.Delete, "clusters/" + Uri.EscapeDataString(name), null, stop)).Problem is { Status: not 404 } problem ? problem : null;

    private async Task<Outcome<T>> Send<T>(HttpMethod method, string path, object? body, CancellationToken stop) where T : class
    {
        if (options.Provider is not { } address)
            return None;
        try
        {
            using var client = clients.CreateClient(Client);
            using var request = new HttpRequestMessage(method, new Uri(address, path));
            if (options.ProviderToken is { } token)
                request.Headers.Authorization = new("Bearer", token);
            if (body is not null)
                request.Content = JsonContent.Create(body, body.GetType(), options: Json);
            using var answer = await client.SendAsync(request, stop);
            if (answer.IsSuccessStatusCode)
                return typeof(T) == typeof(object) ? (T)new object() : (await answer.Content.ReadFromJsonAsync<T>(Json, stop))!;
            if (answer.StatusCode == HttpStatusCode.NotFound)
                return new Problem(404, "The provider knows no such cluster.", "It was removed there, or never ordered.");
            var said = await answer.Content.ReadFromJsonAsync<JsonElement>(Json, stop);
            return new Problem(502, "The provider refuses.", $"{(said.TryGetProperty("title", out var title) ? title.GetString() : "")} {(said.TryGetProperty("detail", out var detail) ? detail.GetString() : "")}".Trim());
        }
        catch (Exception trouble) when (trouble is HttpRequestException or JsonException or NotSupportedException || (trouble is OperationCanceledException && !stop.IsCancellationRequested))
        {
            return new Problem(502, "The provider does not answer.", $"{address}: {trouble.Message} Check SKEVIN_PROVIDER and that this server can reach it.");
        }
    }
}
