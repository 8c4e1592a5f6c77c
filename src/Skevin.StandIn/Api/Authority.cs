using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text.Json.Nodes;

namespace Skevin.StandIn.Api;

/// <summary>Who asks the cluster API.</summary>
public sealed record Account(string User, bool Admin);

/// <summary>Tokens, and what the roles bound to their accounts allow.</summary>
public sealed class Authority(ObjectStore store, string adminToken)
{
    private const string Rbac = "rbac.authorization.k8s.io";
    private readonly ConcurrentDictionary<string, Account> _tokens = new() { [adminToken] = new Account("larkfield-keeper", true) };

    /// <summary>A new token for a service account.</summary>
    public string Issue(string ns, string account)
    {
        var token = Convert.ToHexString(RandomNumberGenerator.GetBytes(24)).ToLowerInvariant();
        _tokens[token] = new Account($"system:serviceaccount:{ns}:{account}", false);
        return token;
    }

    /// <summary>The account behind an Authorization header, or null.</summary>
    public Account? Of(string? header) =>
        header?.StartsWith("Bearer ", StringComparison.Ordinal) == true && _tokens.TryGetValue(header[7..].Trim(), out var account) ? account : null;

    /// <summary>Whether an account may do something at a namespace, or at cluster scope where that is empty.</summary>
    public bool Allows(Account account, string verb, string group, string resource, string ns)
    {
        if (account.Admin)
            return true;
        foreach (var (kind, at) in new[] { ("clusterrolebindings", ""), ("rolebindings", ns) })
        {
            if (kind == "rolebindings" && at.Length == 0)
                continue;
            foreach (var binding in store.List(Rbac, kind, at).Objects)
            {
                var names = (binding.Body["subjects"] as JsonArray ?? []).Where(subject => Text(subject, "kind") == "ServiceAccount")
                    .Select(subject => $"system:serviceaccount:{Text(subject, "namespace")}:{Text(subject, "name")}");
                if (!names.Contains(account.User))
                    continue;
                var role = binding.Body["roleRef"];
                var found = Text(role, "kind") == "ClusterRole"
                    ? store.Get(new ObjectKey(Rbac, "clusterroles", "", Text(role, "name")))
                    : store.Get(new ObjectKey(Rbac, "roles", binding.Key.Namespace, Text(role, "name")));
                if (found?.Body["rules"] is JsonArray rules && rules.Any(rule => Has(rule, "apiGroups", group) && Has(rule, "resources", resource) && Has(rule, "verbs", verb)))
                    return true;
            }
        }
        return false;
    }

    private static bool Has(JsonNode? rule, string field, string wanted) =>
        rule?[field] is JsonArray values && values.Any(value => value?.GetValue<string>() is { } text && (text == wanted || text == "*"));

    private static string Text(JsonNode? node, string field) => node?[field]?.GetValue<string>() ?? "";
}
