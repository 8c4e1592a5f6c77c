namespace Skevin.Core.Series;

/// <summary>Which part of a stretch of time lies in which slot.</summary>
internal ref struct SlotShares(long begin, long end, long from, long width, int slots)
{
    // A slot holds (start, end]; integer division rounds towards zero, so times before the window are clamped first.
    private readonly long _last = end > begin ? Math.Min(slots - 1, (end - 1 - from) / width) : -1;
    private long _slot = Math.Max(0, (begin - from) / width) - 1;

    /// <summary>The slot, and its share of the stretch from 0 to 1.</summary>
    public (int Slot, double Share) Current { get; private set; }

    /// <summary>For foreach.</summary>
    public readonly SlotShares GetEnumerator() => this;

    /// <summary>To the next slot that has a share.</summary>
    public bool MoveNext()
    {
        while (++_slot <= _last)
        {
            var start = from + _slot * width;
            var overlap = Math.Min(end, start + width) - Math.Max(begin, start);
            if (overlap <= 0)
                continue;
            Current = ((int)_slot, (double)overlap / (end - begin));
            return true;
        }
        return false;
    }
}
