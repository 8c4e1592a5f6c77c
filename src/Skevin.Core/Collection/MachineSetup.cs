namespace Skevin.Core.Collection;

/// <summary>What a person does on a machine to have its agent run as a service, and to have it gone again.</summary>
public static class MachineSetup
{
    /// <summary>Where the program stands.</summary>
    public const string Program = "/opt/skevin/Skevin.Agent";

    private const string Folder = "/etc/skevin";
    private const string Unit = "/etc/systemd/system/skevin-agent.service";

    /// <summary>Where a server gives a machine's agent its plan.</summary>
    public const string ConfigurationPath = "v1/agent/configuration";

    /// <summary>The shell's lines, for root. The token stands in a file only root may read.</summary>
    /// <param name="machine">The machine; fits <see cref="MachineNames"/>.</param>
    /// <param name="server">Address of the server.</param>
    /// <param name="token">Its ingest token.</param>
    /// <exception cref="ArgumentException">One of them could end the text it stands in.</exception>
    public static string Install(string machine, string server, string token)
    {
        foreach (var text in new[] { machine, server, token })
            if (text.AsSpan().IndexOfAny("'\"\\\n $`%") >= 0)
                throw new ArgumentException($"'{text}' cannot stand in a shell's line.", nameof(machine));
        return $$"""
            install -d -m 700 {{Folder}} {{Manifests.BufferOnNode}}
            (umask 077; printf '%s' '{{token}}' > {{Folder}}/token)
            cat > {{Unit}} <<'UNIT'
            [Unit]
            Description=Skevin agent
            Wants=network-online.target
            After=network-online.target

            [Service]
            ExecStart={{Program}} --role machine
            Environment=SKEVIN_NODE={{machine}}
            Environment=SKEVIN_SERVER={{server}}
            Environment=SKEVIN_TOKEN_FILE={{Folder}}/token
            Environment=SKEVIN_BUFFER={{Manifests.BufferOnNode}}
            Environment=SKEVIN_LISTEN=127.0.0.1
            Restart=always
            RestartSec=5
            MemoryMax=256M
            NoNewPrivileges=yes
            ProtectSystem=strict
            ProtectHome=read-only
            ReadWritePaths={{Manifests.BufferOnNode}}

            [Install]
            WantedBy=multi-user.target
            UNIT
            systemctl daemon-reload
            systemctl enable --now skevin-agent

            """;
    }

    /// <summary>The shell's lines that take it away again, for root.</summary>
    public static string Remove => $"""
        systemctl disable --now skevin-agent
        rm -rf {Unit} {Folder} {Manifests.BufferOnNode} {System.IO.Path.GetDirectoryName(Program)}
        systemctl daemon-reload

        """;
}
