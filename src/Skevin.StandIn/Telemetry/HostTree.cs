using System.Globalization;
using System.Text;
using Skevin.StandIn.Model;

namespace Skevin.StandIn.Telemetry;

/// <summary>A node's <c>/proc</c> and <c>/sys</c>, as far as the agent reads them, from the model's numbers. Source of the forms: proc(5).</summary>
public static class HostTree
{
    /// <summary>Brings a node's files up to date.</summary>
    /// <param name="root">Root of the node's files.</param>
    /// <param name="cluster">The cluster.</param>
    /// <param name="node">The node.</param>
    /// <param name="boot">When it was started.</param>
    /// <param name="now">The model's time.</param>
    public static void Write(string root, SimCluster cluster, string node, DateTimeOffset boot, DateTimeOffset now)
    {
        var usage = cluster.NodeUsage(node);
        var cores = (int)cluster.SizeOf(node).Cores;
        Directory.CreateDirectory(Path.Combine(root, "proc/1/net"));
        Directory.CreateDirectory(Path.Combine(root, "sys/block/nvme0n1"));
        var all = Math.Max(0, (now - boot).TotalSeconds) * cores * 100;
        var busy = Math.Min(all, usage.CpuSeconds * 100);
        long[] Ticks(double share) => [.. new[] { busy * 0.74, busy * 0.01, busy * 0.2, (all - busy) * 0.985, (all - busy) * 0.015, busy * 0.01, busy * 0.04, 0 }.Select(ticks => (long)(ticks * share))];
        var stat = new StringBuilder();
        stat.Append("cpu  ").AppendJoin(' ', Ticks(1)).Append(" 0 0\n");
        for (var core = 0; core < cores; core++)
            stat.Append(CultureInfo.InvariantCulture, $"cpu{core} ").AppendJoin(' ', Ticks(1.0 / cores)).Append(" 0 0\n");
        stat.Append(CultureInfo.InvariantCulture, $"btime {boot.ToUnixTimeSeconds()}\n");
        Put("proc/stat", stat.ToString());
        var total = (long)(cluster.SizeOf(node).Gib * 1048576);
        var used = (long)(usage.Memory / 1024);
        var cached = Math.Min(total - used - 600_000, 2_400_000 + (long)(usage.Sent / 40_000));
        Put("proc/meminfo", $"MemTotal:       {total} kB\nMemFree:        {total - used - cached - 210_000} kB\nMemAvailable:   {total - used} kB\nBuffers:        120000 kB\nCached:         {cached} kB\nSReclaimable:   90000 kB\n");
        // What is logged and kept is written, some of it read again.
        var (written, read) = ((long)(usage.Sent / 3), (long)(usage.Sent / 24));
        Put("proc/diskstats", $" 259       0 nvme0n1 {read / 16384} 0 {read / 512} {read / 40960} {written / 12288} 0 {written / 512} {written / 20480} 0 0 0\n 259       1 nvme0n1p1 {read / 16384} 0 {read / 512} 0 {written / 12288} 0 {written / 512} 0 0 0 0\n");
        string Face(string name, double received, double sent) =>
            $"{name,6}: {(long)received} {(long)(received / 620)} 0 {(long)(received / 9e8)} 0 0 0 0 {(long)sent} {(long)(sent / 840)} 0 0 0 0 0 0\n";
        Put("proc/1/net/dev", "Inter-|   Receive                                                |  Transmit\n face |bytes    packets errs drop fifo frame compressed multicast|bytes    packets errs drop fifo colls carrier compressed\n"
            + Face("lo", usage.Sent / 9, usage.Sent / 9) + Face("eth0", usage.Received, usage.Sent));

        // Written beside and renamed: a reader never sees half a file, as in the kernel's own.
        void Put(string path, string text)
        {
            var file = Path.Combine(root, path);
            File.WriteAllText(file + ".new", text);
            File.Move(file + ".new", file, overwrite: true);
        }
    }
}
