namespace Skevin.Core.Tests;

/// <summary>The checkout the tests run from.</summary>
public static class Repository
{
    public static string Root { get; } = Find(AppContext.BaseDirectory);

    private static string Find(string folder) => File.Exists(Path.Combine(folder, "Skevin.slnx")) ? folder : Find(Path.GetDirectoryName(folder)!);
}
