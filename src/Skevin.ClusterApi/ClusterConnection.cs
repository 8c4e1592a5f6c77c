using System.Text;
using k8s;
using k8s.Exceptions;
using k8s.KubeConfigModels;

namespace Skevin.ClusterApi;

/// <summary>Opens the API of a cluster.</summary>
public static class ClusterConnection
{
    private const int LongestKubeconfig = 200_000;

    /// <summary>A client from a kubeconfig's current context.</summary>
    /// <param name="kubeconfig">YAML text. It comes from a person, so nothing in it may start a program or read a file here.</param>
    /// <param name="error">What is wrong and what to do; null when a client is returned.</param>
    public static Kubernetes? FromKubeconfig(string kubeconfig, out string? error)
    {
        error = null;
        if (kubeconfig.Length > LongestKubeconfig)
        {
            error = $"The kubeconfig is longer than {LongestKubeconfig / 1000} kB.";
            return null;
        }
        try
        {
            var parsed = KubernetesYaml.Deserialize<K8SConfiguration>(kubeconfig);
            error = Unsafe(parsed);
            if (error is not null)
                return null;
            using var stream = new MemoryStream(Encoding.UTF8.GetBytes(kubeconfig));
            var configuration = KubernetesClientConfiguration.BuildConfigFromConfigFile(stream);
            configuration.HttpClientTimeout = Timeout.InfiniteTimeSpan;
            return new Kubernetes(configuration);
        }
        catch (Exception wrong) when (wrong is KubeConfigException or YamlDotNet.Core.YamlException or FormatException
            or UriFormatException or ArgumentException or InvalidCastException or NullReferenceException or KeyNotFoundException)
        {
            error = "This is not a kubeconfig that can be used: " + wrong.Message
                + " Paste the whole file; it has clusters, users, contexts and a current-context.";
            return null;
        }
    }

    /// <summary>A client for a program that runs in the cluster, under its service account.</summary>
    /// <param name="host">Address of the cluster API.</param>
    /// <param name="token">The account's token.</param>
    /// <param name="certificateFile">The API's certificate authority; where there is none, the connection is plain HTTP.</param>
    public static Kubernetes FromServiceAccount(Uri host, string token, string? certificateFile)
    {
        var configuration = new KubernetesClientConfiguration { Host = host.ToString(), AccessToken = token };
        if (certificateFile is not null && File.Exists(certificateFile))
        {
            configuration.SslCaCerts = [];
            configuration.SslCaCerts.ImportFromPemFile(certificateFile);
        }
        return new Kubernetes(configuration);
    }

    private static string? Unsafe(K8SConfiguration? configuration)
    {
        if (configuration?.Contexts is null || configuration.Clusters is null || configuration.Users is null)
            return "This is not a kubeconfig: clusters, users and contexts are missing. Paste the whole file.";
        foreach (var user in configuration.Users)
        {
            var credentials = user.UserCredentials;
            if (credentials is null)
                continue;
            if (credentials.ExternalExecution is not null || credentials.AuthProvider is not null)
                return $"User {user.Name} signs in by starting a program, which the server does not do. Use a token or a client certificate in the file.";
            if (credentials.ClientCertificate is not null || credentials.ClientKey is not null)
                return $"User {user.Name} points at files on your machine. Put their content into the file (client-certificate-data, client-key-data).";
        }
        foreach (var cluster in configuration.Clusters)
            if (cluster.ClusterEndpoint?.CertificateAuthority is not null)
                return $"Cluster {cluster.Name} points at a file on your machine. Put its content into the file (certificate-authority-data).";
        return null;
    }
}
