using System.Text.Json;
using Skevin.Agent.Receivers;

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
        if (spans is not null)
            new SpanReceiver(agent).Map(app);
        return app;
    }
}
