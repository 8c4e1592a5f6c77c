namespace Skevin.Agent.Buffer;

/// <summary>How much room there is where the buffer lies. An agent never fills up its node's disk.</summary>
public sealed class FreeSpace(string folder, Func<long>? given, TimeProvider clock)
{
    /// <summary>What is left free for others; only the agent's few words about its sources may go below.</summary>
    public const long Kept = 64 << 20;

    private static readonly TimeSpan Every = TimeSpan.FromSeconds(2);
    private DateTimeOffset _asked;
    private long _free = long.MaxValue;

    /// <summary>Bytes free, as of at most 2 s ago.</summary>
    public long Bytes
    {
        get
        {
            var now = clock.GetUtcNow();
            if (now - _asked < Every && now >= _asked)
                return _free;
            (_asked, _free) = (now, given?.Invoke() ?? new DriveInfo(Path.GetFullPath(folder)).AvailableFreeSpace);
            return _free;
        }
    }

    /// <summary>Why nothing more may be kept; null while there is room.</summary>
    public string? Trouble => Bytes is var free && free < Kept ? $"the node's disk is full: {free} B free where the buffer lies, {Kept} B are left to others; nothing is read until there is room" : null;
}
