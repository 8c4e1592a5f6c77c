using System.Text.Json;
using Skevin.Agent.Receivers;
using Skevin.Core.Collection;

namespace Skevin.Agent;

/// <summary>An agent with its <c>/status</c> page and the addresses it takes spans on.</summary>
public static class AgentHost
{
    /// <summary>Builds the small web server on which an agent answers. The first of its addresses is that of the status.</summary>
    /// <param name="agent">The agent.</param>
    /// <param name="address">For example <c>http://0.0.0.0:5189</c>; port 0 takes any.</param>
    /// <param name="spans">Where applications send to; null for an agent that takes nothing.</param>
    public static WebApplication Build(CollectingAgent agent, string address, string? spans)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(kestrel => kestrel.Limits.MaxRequestBodySize = 8 << 20);
        builder.WebHost.UseUrls(spans is null ? [address] : [address, spans]);
        var app = builder.Build();
        var json = new JsonSerializerOptions(JsonSerializerDefaults.Web) { WriteIndented = true };
        app.MapGet("/status", () => Results.Json(agent.Status, json));
        // Both tell or do more than a neighbour in the cluster may ask for, so they are the server's alone.
        var own = app.MapGroup("").AddEndpointFilter(async (call, next) =>
            AgentKey.Fits(call.HttpContext.Request.Headers[AgentKey.Header], agent.KeyHash) ? await next(call) : Results.StatusCode(StatusCodes.Status403Forbidden));
        own.MapGet("/probe/{family}/{port:int:range(0,65535)}/{host:maxlength(253)}", async (string family, int port, string host, CancellationToken stop) => Results.Json(await agent.Probe(host, port, family, stop), json));
        own.MapGet("/page/{**source}", (string source) => agent.PageOf(source) is { } page ? Results.Json(page, json) : Results.NotFound());
        own.MapPost("/forget", async (CancellationToken stop) => Results.Json(new { batches = await agent.Forget(stop) }, json));
        if (spans is not null)
            new SpanReceiver(agent).Map(app);
        return app;
    }
}
