using System.Diagnostics;
using Npgsql;

namespace Skevin.Server.Tests.Storage;

/// <summary>A PostgreSQL of the test's own, made and started as <c>./start</c> does it, whose processes can be killed with signal 9.</summary>
public sealed class PulledPlug : IAsyncDisposable
{
    private readonly string _home = Directory.CreateTempSubdirectory("skevin-plug").FullName;
    private readonly int _port = TestDatabase.FreePorts(1);

    /// <summary>How to reach it.</summary>
    public string Database { get; private set; } = "";

    /// <summary>Starts it; what a kill left behind is recovered.</summary>
    public async Task Start()
    {
        Database = (await Shell("postgres_start > /dev/null; printf %s \"$SKEVIN_DATABASE\"")).Trim();
        Database = new NpgsqlConnectionStringBuilder(Database) { MaxPoolSize = 20 }.ConnectionString;
    }

    /// <summary>Kills every process of it at once: nothing is written any more.</summary>
    public Task Kill() => Shell("pid=$(head -n 1 \"$(postgres_folder)/data/postmaster.pid\"); all=$(pgrep -P $pid | tr '\\n' ' '); kill -9 $pid $all; while [ -d /proc/$pid ]; do sleep 0.02; done; for one in $all; do while [ -d /proc/$one ]; do sleep 0.02; done; done");

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        NpgsqlConnection.ClearAllPools();
        await Shell("postgres_forget");
        Directory.Delete(_home, true);
    }

    private async Task<string> Shell(string command)
    {
        var start = new ProcessStartInfo("bash", ["-c", $". scripts/environment.sh; . scripts/postgres.sh; {command}"]) { WorkingDirectory = Repository.Root, RedirectStandardOutput = true };
        start.Environment["SKEVIN_HOME"] = _home;
        start.Environment["SKEVIN_PG_PORT"] = _port.ToString(System.Globalization.CultureInfo.InvariantCulture);
        start.Environment.Remove("SKEVIN_DATABASE");
        using var process = Process.Start(start)!;
        var output = await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        process.ExitCode.ShouldBe(0, command + "\n" + output);
        return output;
    }
}

/// <summary>A server on such a PostgreSQL.</summary>
public sealed class ServerOnOwnPostgres : RunningServer
{
    public PulledPlug Plug { get; } = new();

    protected override async Task<string> MakeDatabase()
    {
        await Plug.Start();
        return Plug.Database;
    }

    public override async ValueTask DisposeAsync()
    {
        await base.DisposeAsync();
        await Plug.DisposeAsync();
    }
}
