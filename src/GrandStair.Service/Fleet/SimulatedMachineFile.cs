using GrandStair.Files.Parsing;

namespace GrandStair.Service.Fleet;

/// <summary>
/// Reads what is true of simulated machines: a CSV file with a column <c>name</c>, and one for each thing that can be seen or, as
/// <c>truth.…</c>, that only they know.
/// </summary>
internal static class SimulatedMachineFile
{
    /// <summary>Reads the file.</summary>
    public static IEnumerable<(string Name, IReadOnlyDictionary<string, string> Truth)> Read(string file)
    {
        using var csv = BoundedCsv.Open(new StreamReader(file));
        csv.Read();
        csv.ReadHeader();
        while (csv.Read())
        {
            var truth = csv.HeaderRecord!.Where(h => h != "name").ToDictionary(h => h, h => csv.GetField(h)!, StringComparer.Ordinal);
            yield return (csv.GetField("name")!, truth);
        }
    }
}
