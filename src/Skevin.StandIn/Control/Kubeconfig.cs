namespace Skevin.StandIn.Control;

/// <summary>Credentials for a cluster, as a kubeconfig.</summary>
internal static class Kubeconfig
{
    /// <summary>Writes one.</summary>
    public static string Write(string cluster, Uri address, string token) => $"""
        apiVersion: v1
        kind: Config
        current-context: {cluster}
        contexts:
          - name: {cluster}
            context: {"{"}cluster: {cluster}, user: keeper{"}"}
        clusters:
          - name: {cluster}
            cluster:
              server: {address}
        users:
          - name: keeper
            user:
              token: {token}

        """;
}
