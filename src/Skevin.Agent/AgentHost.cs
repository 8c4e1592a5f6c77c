using System.Text.Json;

namespace Skevin.Agent;

/// <summary>An agent with its <c>/status</c> page.</summary>
public static class AgentHost
{
    /// <summary>Builds the small web server on which an agent answers.</summary>
    /// <param name="agent">The agent.</param>
    /// <param name="address">For example <c>http://0.0.0.0:5189</c>; port 0 takes any.</param>
    public static WebApplication Build(CollectingAgent agent, string address)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseUrls(address);
        var app = builder.Build();
        var json = new JsonSerializerOptions(JsonSerializerDefaults.Web) { WriteIndented = true };
        app.MapGet("/status", () => Results.Json(agent.Status, json));
        return app;
    }
}
