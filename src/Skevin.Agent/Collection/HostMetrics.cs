using System.Globalization;

namespace Skevin.Agent.Collection;

/// <summary>
/// Counters of a node's kernel as metrics. Sources: proc(5) for the files, OpenTelemetry semantic conventions, "system metrics", for the
/// names (from memory).
/// </summary>
public static class HostMetrics
{
    // USER_HZ is 100 on every architecture Linux runs clusters on; the kernel gives no file to read it from.
    private const double TicksPerSecond = 100;
    private const int SectorBytes = 512;
    private static readonly string[] DiskFileSystems = ["ext2", "ext3", "ext4", "xfs", "btrfs", "zfs", "f2fs"];

    /// <summary>Reads what is there.</summary>
    /// <param name="root">Where the node's <c>proc</c> and <c>sys</c> stand.</param>
    /// <param name="attributes">Attributes of the node or machine.</param>
    /// <param name="into">Receives the metrics.</param>
    /// <exception cref="IOException">The kernel's counters are not there.</exception>
    public static void Read(string root, List<KeyValuePair<string, string>> attributes, MetricsBuilder into)
    {
        var stat = File.ReadAllLines(Path.Combine(root, "proc/stat"));
        DateTimeOffset? boot = stat.FirstOrDefault(line => line.StartsWith("btime ", StringComparison.Ordinal)) is { } line && long.TryParse(line[6..], out var seconds) ? DateTimeOffset.FromUnixTimeSeconds(seconds) : null;
        Processor(stat, attributes, boot, into);
        Memory(File.ReadAllLines(Path.Combine(root, "proc/meminfo")), attributes, into);
        Disks(root, attributes, boot, into);
        Interfaces(root, attributes, boot, into);
        FileSystems(root, attributes, into);
    }

    private static void Processor(string[] stat, List<KeyValuePair<string, string>> attributes, DateTimeOffset? boot, MetricsBuilder into)
    {
        if (stat.FirstOrDefault(line => line.StartsWith("cpu ", StringComparison.Ordinal)) is { } all)
        {
            // user nice system idle iowait irq softirq steal; both kinds of interrupt count as one mode.
            var ticks = all.Split(' ', StringSplitOptions.RemoveEmptyEntries).Skip(1).Select(Number).ToArray();
            double At(int i) => i < ticks.Length ? ticks[i] : 0;
            foreach (var (mode, value) in new[] { ("user", At(0)), ("nice", At(1)), ("system", At(2)), ("idle", At(3)), ("iowait", At(4)), ("interrupt", At(5) + At(6)), ("steal", At(7)) })
                into.Counter(attributes, "system.cpu.time", "s", value / TicksPerSecond, boot, new KeyValuePair<string, string>("cpu.mode", mode));
        }
        into.Gauge(attributes, "system.cpu.logical.count", "{cpu}", stat.Count(line => line.StartsWith("cpu", StringComparison.Ordinal) && line.Length > 3 && char.IsAsciiDigit(line[3])));
    }

    private static void Memory(string[] lines, List<KeyValuePair<string, string>> attributes, MetricsBuilder into)
    {
        var fields = lines.Select(line => line.Split(':', 2)).Where(parts => parts.Length == 2)
            .ToDictionary(parts => parts[0], parts => Number(parts[1].Trim().Split(' ')[0]) * 1024);
        double At(string name) => fields.GetValueOrDefault(name);
        var (total, free, buffers, cached) = (At("MemTotal"), At("MemFree"), At("Buffers"), At("Cached") + At("SReclaimable"));
        foreach (var (state, value) in new[] { ("used", total - free - buffers - cached), ("free", free), ("buffers", buffers), ("cached", cached) })
            into.Gauge(attributes, "system.memory.usage", "By", value, new KeyValuePair<string, string>("system.memory.state", state));
        into.Gauge(attributes, "system.memory.limit", "By", total);
    }

    private static void Disks(string root, List<KeyValuePair<string, string>> attributes, DateTimeOffset? boot, MetricsBuilder into)
    {
        var file = Path.Combine(root, "proc/diskstats");
        if (!File.Exists(file))
            return;
        foreach (var parts in File.ReadAllLines(file).Select(line => line.Split(' ', StringSplitOptions.RemoveEmptyEntries)).Where(parts => parts.Length >= 10))
        {
            // Whole disks alone: partitions would count the same again.
            var name = parts[2];
            if (name.StartsWith("loop", StringComparison.Ordinal) || name.StartsWith("ram", StringComparison.Ordinal) || !Directory.Exists(Path.Combine(root, "sys/block", name)))
                continue;
            var device = new KeyValuePair<string, string>("system.device", name);
            foreach (var (direction, operations, sectors) in new[] { ("read", Number(parts[3]), Number(parts[5])), ("write", Number(parts[7]), Number(parts[9])) })
            {
                var way = new KeyValuePair<string, string>("disk.io.direction", direction);
                into.Counter(attributes, "system.disk.io", "By", sectors * SectorBytes, boot, device, way);
                into.Counter(attributes, "system.disk.operations", "{operation}", operations, boot, device, way);
            }
        }
    }

    private static void Interfaces(string root, List<KeyValuePair<string, string>> attributes, DateTimeOffset? boot, MetricsBuilder into)
    {
        // The first process stands in the node's own network, whatever network the reader is in.
        var file = new[] { "proc/1/net/dev", "proc/net/dev" }.Select(path => Path.Combine(root, path)).FirstOrDefault(File.Exists);
        if (file is null)
            return;
        foreach (var line in File.ReadAllLines(file).Skip(2))
        {
            var parts = line.Split(':', 2);
            if (parts.Length != 2 || parts[0].Trim() is not { Length: > 0 } name || name == "lo" || name.StartsWith("veth", StringComparison.Ordinal))
                continue;
            var numbers = parts[1].Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(Number).ToArray();
            if (numbers.Length < 12)
                continue;
            var face = new KeyValuePair<string, string>("network.interface.name", name);
            foreach (var (direction, first) in new[] { ("receive", 0), ("transmit", 8) })
            {
                var way = new KeyValuePair<string, string>("network.io.direction", direction);
                into.Counter(attributes, "system.network.io", "By", numbers[first], boot, face, way);
                into.Counter(attributes, "system.network.packet.count", "{packet}", numbers[first + 1], boot, face, way);
                into.Counter(attributes, "system.network.errors", "{error}", numbers[first + 2], boot, face, way);
                into.Counter(attributes, "system.network.packet.dropped", "{packet}", numbers[first + 3], boot, face, way);
            }
        }
    }

    private static void FileSystems(string root, List<KeyValuePair<string, string>> attributes, MetricsBuilder into)
    {
        var file = Path.Combine(root, "proc/1/mounts");
        if (!File.Exists(file))
            return;
        var seen = new HashSet<string>(StringComparer.Ordinal);
        foreach (var parts in File.ReadAllLines(file).Select(line => line.Split(' ')).Where(parts => parts.Length >= 3 && DiskFileSystems.Contains(parts[2])))
        {
            // A device mounted twice is one file system. Blanks in names are written as \040.
            var mount = parts[1].Replace("\\040", " ");
            var path = root.TrimEnd('/') + mount;
            if (!Directory.Exists(path) || !seen.Add(parts[0]))
                continue;
            var drive = new DriveInfo(path);
            KeyValuePair<string, string>[] about = [new("system.device", parts[0]), new("system.filesystem.mountpoint", mount), new("system.filesystem.type", parts[2])];
            into.Gauge(attributes, "system.filesystem.usage", "By", drive.TotalSize - drive.TotalFreeSpace, [.. about, new("system.filesystem.state", "used")]);
            into.Gauge(attributes, "system.filesystem.usage", "By", drive.AvailableFreeSpace, [.. about, new("system.filesystem.state", "free")]);
            into.Gauge(attributes, "system.filesystem.limit", "By", drive.TotalSize, about);
        }
    }

    private static double Number(string text) => double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number) ? number : 0;
}
