using System.Text.Json;
using k8s;
using k8s.Models;
using Skevin.Core.Collection;

namespace Skevin.ClusterApi;

/// <summary>Puts manifests into a cluster by server-side apply, and takes them out.</summary>
public static class ManifestApply
{
    /// <summary>Owner of the fields Skevin sets.</summary>
    public const string FieldManager = "skevin";

    /// <summary>Applies one object, taking over fields others have set.</summary>
    /// <exception cref="k8s.Autorest.HttpOperationException">The cluster refuses.</exception>
    public static Task Apply(Kubernetes client, Manifest manifest, CancellationToken stop)
    {
        var patch = new V1Patch(manifest.Body.ToJsonString(), V1Patch.PatchType.ApplyPatch);
        var (name, ns) = (manifest.Name, manifest.Namespace);
        return manifest.Kind switch
        {
            "Namespace" => client.CoreV1.PatchNamespaceAsync(patch, name, fieldManager: FieldManager, force: true, cancellationToken: stop),
            "ServiceAccount" => client.CoreV1.PatchNamespacedServiceAccountAsync(patch, name, ns, fieldManager: FieldManager, force: true, cancellationToken: stop),
            "ConfigMap" => client.CoreV1.PatchNamespacedConfigMapAsync(patch, name, ns, fieldManager: FieldManager, force: true, cancellationToken: stop),
            "Secret" => client.CoreV1.PatchNamespacedSecretAsync(patch, name, ns, fieldManager: FieldManager, force: true, cancellationToken: stop),
            "ClusterRole" => client.RbacAuthorizationV1.PatchClusterRoleAsync(patch, name, fieldManager: FieldManager, force: true, cancellationToken: stop),
            "ClusterRoleBinding" => client.RbacAuthorizationV1.PatchClusterRoleBindingAsync(patch, name, fieldManager: FieldManager, force: true, cancellationToken: stop),
            "DaemonSet" => client.AppsV1.PatchNamespacedDaemonSetAsync(patch, name, ns, fieldManager: FieldManager, force: true, cancellationToken: stop),
            "Deployment" => client.AppsV1.PatchNamespacedDeploymentAsync(patch, name, ns, fieldManager: FieldManager, force: true, cancellationToken: stop),
            "Service" => client.CoreV1.PatchNamespacedServiceAsync(patch, name, ns, fieldManager: FieldManager, force: true, cancellationToken: stop),
            _ => throw new ArgumentException($"No way to apply a {manifest.Kind}.", nameof(manifest)),
        };
    }

    /// <summary>Whether the account behind the client may do something, asked of the cluster itself.</summary>
    public static async Task<(bool Allowed, string? Why)> May(
        Kubernetes client, string verb, string group, string resource, string? ns, CancellationToken stop)
    {
        var parts = resource.Split('/');
        var review = await client.AuthorizationV1.CreateSelfSubjectAccessReviewAsync(new V1SelfSubjectAccessReview
        {
            Spec = new V1SelfSubjectAccessReviewSpec
            {
                ResourceAttributes = new V1ResourceAttributes
                {
                    Verb = verb, Group = group, Resource = parts[0], Subresource = parts.Length > 1 ? parts[1] : null, NamespaceProperty = ns,
                },
            },
        }, cancellationToken: stop);
        return (review.Status?.Allowed ?? false, review.Status?.Reason);
    }
}
