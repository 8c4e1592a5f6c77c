using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Skevin.StandIn.Api;

/// <summary>Answers what is not an object: node stats, pods' own pages.</summary>
public interface IProxyTarget
{
    /// <summary>The stats summary of a node, or null where there is no such node or it does not answer.</summary>
    JsonObject? StatsSummary(string node);

    /// <summary>The text page of a node's container runtime, or null where there is no such node.</summary>
    string? RuntimePage(string node);

    /// <summary>A page of a pod, fetched for the caller.</summary>
    Task<(int Status, string ContentType, byte[] Body)> PodPage(string ns, string pod, int port, string path, HttpRequest asked, CancellationToken stop);
}

/// <summary>The subset of the cluster's REST API that Skevin uses, over an object store.</summary>
public sealed class ClusterApiServer(string version, ObjectStore store, Authority authority, IProxyTarget target, TimeProvider clock)
{
    private static readonly HashSet<string> AnsweredWhole = ["pods", "services", "serviceaccounts", "persistentvolumeclaims"];
    private static readonly HashSet<string> ClusterScoped =
        ["nodes", "namespaces", "clusterroles", "clusterrolebindings", "storageclasses", "persistentvolumes"];

    private static readonly Dictionary<string, string> Kinds = new()
    {
        ["nodes"] = "Node", ["namespaces"] = "Namespace", ["pods"] = "Pod", ["configmaps"] = "ConfigMap", ["secrets"] = "Secret",
        ["services"] = "Service", ["serviceaccounts"] = "ServiceAccount", ["events"] = "Event", ["deployments"] = "Deployment",
        ["statefulsets"] = "StatefulSet", ["daemonsets"] = "DaemonSet", ["replicasets"] = "ReplicaSet", ["clusterroles"] = "ClusterRole",
        ["clusterrolebindings"] = "ClusterRoleBinding", ["roles"] = "Role", ["rolebindings"] = "RoleBinding",
        ["ingresses"] = "Ingress", ["storageclasses"] = "StorageClass", ["persistentvolumeclaims"] = "PersistentVolumeClaim", ["horizontalpodautoscalers"] = "HorizontalPodAutoscaler",
    };

    /// <summary>Answers one request.</summary>
    public async Task Handle(HttpContext context)
    {
        var account = authority.Of(context.Request.Headers.Authorization);
        if (account is null)
        {
            await Status(context, 401, "Unauthorized", "Unauthorized");
            return;
        }
        var path = context.Request.Path.Value!.Trim('/').Split('/');
        if (HttpMethods.IsGet(context.Request.Method) && Discovery.Of(path, Kinds, ClusterScoped) is { } described)
        {
            await Json(context, 200, described.ToJsonString());
            return;
        }
        switch (path)
        {
            case ["version"]:
                await Json(context, 200, new JsonObject { ["major"] = "1", ["minor"] = "33", ["gitVersion"] = version }.ToJsonString());
                return;
            case ["apis", "authorization.k8s.io", "v1", "selfsubjectaccessreviews"] when HttpMethods.IsPost(context.Request.Method):
                await AccessReview(context, account);
                return;
            case ["api", "v1", .. var rest]:
                await Resource(context, account, "", "v1", rest);
                return;
            case ["apis", var group, var apiVersion, .. var rest]:
                await Resource(context, account, group, $"{group}/{apiVersion}", rest);
                return;
            default:
                await Status(context, 404, "NotFound", "the server could not find the requested resource");
                return;
        }
    }

    private async Task Resource(HttpContext context, Account account, string group, string apiVersion, string[] path)
    {
        var ns = "";
        if (path is ["namespaces", var name, _, ..] && path[2] is not "status")
            (ns, path) = (name, path[2..]);
        if (path.Length == 0 || !Kinds.TryGetValue(path[0], out var kind))
        {
            await Status(context, 404, "NotFound", "the server could not find the requested resource");
            return;
        }
        var plural = path[0];
        var item = path.Length > 1 ? path[1] : null;
        var sub = path.Length > 2 ? path[2] : null;
        var watch = context.Request.Query["watch"] == "true" || context.Request.Query["watch"] == "1";
        var verb = (context.Request.Method, item) switch
        {
            ("GET", null) => watch ? "watch" : "list",
            ("GET", _) => "get",
            ("POST", _) => sub == "proxy" ? "get" : "create",
            ("PATCH", _) => "patch",
            ("PUT", _) => "update",
            ("DELETE", _) => "delete",
            _ => "",
        };
        var resource = sub is null ? plural : $"{plural}/{sub}";
        if (!authority.Allows(account, verb, group, resource, ns))
        {
            var where = ns.Length > 0 ? $"in the namespace \"{ns}\"" : "at the cluster scope";
            var which = item is null ? plural : $"{plural} \"{item.Split(':')[0]}\"";
            await Status(context, 403, "Forbidden", $"{which} is forbidden: User \"{account.User}\" cannot {verb} resource \"{resource}\" in API group \"{group}\" {where}");
            return;
        }
        if (sub == "proxy" && item is not null)
        {
            await Proxy(context, plural, ns, item, string.Join('/', path[3..]));
            return;
        }
        var key = new ObjectKey(group, plural, ClusterScoped.Contains(plural) ? "" : ns, item ?? "");
        switch (verb)
        {
            case "list":
                await List(context, key, kind, apiVersion);
                break;
            case "watch":
                await Watch(context, key);
                break;
            case "get":
                await (store.Get(key) is { } found ? Json(context, 200, found.Json) : NotFound(context, plural, item!));
                break;
            case "delete":
                // Some kinds are answered with the object as it was, others with a status. Source: the cluster API's published description, by operation.
                var gone = store.Get(key);
                await (gone is null || !store.Remove(key) ? NotFound(context, plural, item!) : AnsweredWhole.Contains(plural) ? Json(context, 200, gone.Json) : Status(context, 200, "", "deleted", "Success"));
                break;
            default:
                await Write(context, verb, key, kind, apiVersion);
                break;
        }
    }

    private async Task Write(HttpContext context, string verb, ObjectKey key, string kind, string apiVersion)
    {
        if (context.Request.ContentType?.Contains("protobuf", StringComparison.Ordinal) == true)
        {
            await Status(context, 415, "UnsupportedMediaType", "the body of the request was in an unknown format - accepted media types include: application/json");
            return;
        }
        JsonObject? body;
        try
        {
            using var reader = new StreamReader(context.Request.Body);
            body = JsonNode.Parse(await reader.ReadToEndAsync(context.RequestAborted)) as JsonObject;
        }
        catch (JsonException)
        {
            body = null;
        }
        if (body is null)
        {
            await Status(context, 400, "BadRequest", "the body of the request is not an object in JSON");
            return;
        }
        if (verb == "create")
            key = key with { Name = body["metadata"]?["name"]?.GetValue<string>() ?? "" };
        if (key.Name.Length == 0 || key.Name.Any(c => char.IsUpper(c) || !(char.IsLetterOrDigit(c) || c is '-' or '.' or ':')))
        {
            await Status(context, 422, "Invalid", $"{kind} \"{key.Name}\" is invalid: metadata.name: a lowercase name is required");
            return;
        }
        if (key.Namespace.Length > 0 && store.Get(new ObjectKey("", "namespaces", "", key.Namespace)) is null)
        {
            await Status(context, 404, "NotFound", $"namespaces \"{key.Namespace}\" not found");
            return;
        }
        // What is given as text is kept as bytes. Source: the cluster API's description of Secret, "stringData".
        if (kind == "Secret" && body["stringData"] is JsonObject texts)
        {
            var data = body["data"] as JsonObject ?? (JsonObject)(body["data"] = new JsonObject())!;
            foreach (var (name, text) in texts)
                data[name] = Convert.ToBase64String(Encoding.UTF8.GetBytes(text?.GetValue<string>() ?? ""));
            body.Remove("stringData");
        }
        var before = store.Get(key);
        if (verb == "create" && before is not null)
        {
            await Status(context, 409, "AlreadyExists", $"{key.Plural} \"{key.Name}\" already exists");
            return;
        }
        var merged = verb == "patch" ? (JsonObject)JsonMerge.Apply(before?.Body, body)! : (JsonObject)body.DeepClone();
        merged["apiVersion"] = apiVersion;
        merged["kind"] = kind;
        var metadata = merged["metadata"] as JsonObject ?? (JsonObject)(merged["metadata"] = new JsonObject())!;
        metadata["creationTimestamp"] ??= before?.Body["metadata"]?["creationTimestamp"]?.DeepClone()
            ?? clock.GetUtcNow().ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture);
        if (verb != "patch")
            metadata["uid"] = before?.Body["metadata"]?["uid"]?.DeepClone();
        var generation = before?.Body["metadata"]?["generation"]?.GetValue<long>() ?? 0;
        if (before is null || !JsonNode.DeepEquals(before.Body["spec"], merged["spec"]) || !JsonNode.DeepEquals(before.Body["data"], merged["data"]))
            generation++;
        metadata["generation"] = generation;
        await Json(context, before is null ? 201 : 200, store.Put(key, merged).Json);
    }

    private async Task List(HttpContext context, ObjectKey key, string kind, string apiVersion)
    {
        var (objects, version) = store.List(key.Group, key.Plural, key.Namespace);
        var selected = objects.Where(Selector(context)).Select(item => item.Json);
        await Json(context, 200,
            $"{{\"kind\":\"{kind}List\",\"apiVersion\":\"{apiVersion}\",\"metadata\":{{\"resourceVersion\":\"{version}\"}},\"items\":[{string.Join(',', selected)}]}}");
    }

    private async Task Watch(HttpContext context, ObjectKey key)
    {
        var after = long.TryParse(context.Request.Query["resourceVersion"], out var asked) ? asked : store.Version;
        var channel = store.Watch(key.Group, key.Plural, after);
        if (channel is null)
        {
            await Status(context, 410, "Expired", $"too old resource version: {after}");
            return;
        }
        try
        {
            var selector = Selector(context);
            context.Response.ContentType = "application/json";
            await context.Response.StartAsync(context.RequestAborted);
            await context.Response.Body.FlushAsync(context.RequestAborted);
            await foreach (var change in channel.Reader.ReadAllAsync(context.RequestAborted))
            {
                if ((key.Namespace.Length > 0 && change.Object.Key.Namespace != key.Namespace) || !selector(change.Object))
                    continue;
                await context.Response.WriteAsync($"{{\"type\":\"{change.Type}\",\"object\":{change.Object.Json}}}\n", context.RequestAborted);
                await context.Response.Body.FlushAsync(context.RequestAborted);
            }
        }
        catch (OperationCanceledException)
        {
            // The watcher went away.
        }
        finally
        {
            store.End(channel);
        }
    }

    private static Func<StoredObject, bool> Selector(HttpContext context)
    {
        var fields = Pairs(context.Request.Query["fieldSelector"]);
        var labels = Pairs(context.Request.Query["labelSelector"]);
        return item => fields.All(pair => Field(item.Body, pair.Name) == pair.Value)
            && labels.All(pair => item.Body["metadata"]?["labels"]?[pair.Name]?.GetValue<string>() == pair.Value);
    }

    private static (string Name, string Value)[] Pairs(string? selector) =>
    [
        .. (selector ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries)
            .Select(part => part.Split('=', StringSplitOptions.RemoveEmptyEntries)).Where(part => part.Length == 2).Select(part => (part[0], part[1])),
    ];

    private static string? Field(JsonObject body, string path) =>
        path.Split('.').Aggregate((JsonNode?)body, (node, name) => node?[name])?.ToString();

    private async Task Proxy(HttpContext context, string plural, string ns, string item, string path)
    {
        if (plural == "nodes" && path == "stats/summary")
        {
            var summary = target.StatsSummary(item);
            await (summary is null ? Status(context, 503, "ServiceUnavailable", $"node {item} does not answer") : Json(context, 200, summary.ToJsonString()));
            return;
        }
        if (plural == "nodes" && path == Model.RuntimePage.Path && target.RuntimePage(item) is { } page)
        {
            context.Response.ContentType = "text/plain; version=0.0.4";
            await context.Response.WriteAsync(page, context.RequestAborted);
            return;
        }
        var parts = item.Split(':');
        if (plural == "pods" && parts.Length == 2 && int.TryParse(parts[1], out var port))
        {
            var (status, type, body) = await target.PodPage(ns, parts[0], port, path, context.Request, context.RequestAborted);
            context.Response.StatusCode = status;
            context.Response.ContentType = type;
            await context.Response.Body.WriteAsync(body, context.RequestAborted);
            return;
        }
        await Status(context, 404, "NotFound", "the server could not find the requested resource");
    }

    private async Task AccessReview(HttpContext context, Account account)
    {
        if (!context.Request.HasJsonContentType())
        {
            await Status(context, 415, "UnsupportedMediaType", "the body of the request was in an unknown format - accepted media types include: application/json");
            return;
        }
        var review = await JsonNode.ParseAsync(context.Request.Body) as JsonObject ?? [];
        var asked = review["spec"]?["resourceAttributes"];
        string Text(string name) => asked?[name]?.GetValue<string>() ?? "";
        var resource = Text("subresource").Length > 0 ? $"{Text("resource")}/{Text("subresource")}" : Text("resource");
        var allowed = authority.Allows(account, Text("verb"), Text("group"), resource, Text("namespace"));
        review["apiVersion"] = "authorization.k8s.io/v1";
        review["kind"] = "SelfSubjectAccessReview";
        review["status"] = new JsonObject { ["allowed"] = allowed, ["reason"] = allowed ? "" : "no role bound to this account allows it" };
        await Json(context, 201, review.ToJsonString());
    }

    private static Task NotFound(HttpContext context, string plural, string name) => Status(context, 404, "NotFound", $"{plural} \"{name}\" not found");

    private static Task Status(HttpContext context, int code, string reason, string message, string status = "Failure") =>
        Json(context, code, new JsonObject
        {
            ["kind"] = "Status", ["apiVersion"] = "v1", ["metadata"] = new JsonObject(), ["status"] = status, ["message"] = message,
            ["reason"] = reason, ["code"] = code,
        }.ToJsonString());

    private static Task Json(HttpContext context, int code, string json)
    {
        context.Response.StatusCode = code;
        context.Response.ContentType = "application/json";
        return context.Response.Body.WriteAsync(Encoding.UTF8.GetBytes(json), context.RequestAborted).AsTask();
    }
}
