using GrandStair.Core.Readings;

namespace GrandStair.Engine.Fleet;

/// <summary>Which machines name another one under a key, by that one's name.</summary>
/// <param name="key">The key, such as <c>hangs-on</c>.</param>
internal sealed class NamedLinks(string key)
{
    private readonly Dictionary<string, HashSet<MachineId>> _from = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Takes note of a machine that has changed.</summary>
    /// <param name="before">The machine before; null where it is new.</param>
    /// <param name="machine">The machine now.</param>
    /// <param name="touched">Gets the names of machines for which something changes by it.</param>
    public void Note(Machine? before, Machine machine, ISet<string> touched)
    {
        if (before?.TextOf(key) is { } left && _from.TryGetValue(left, out var leaving) && leaving.Remove(machine.Id))
            touched.Add(left);
        if (machine.IsInFleet && machine.TextOf(key) is { Length: > 0 } on)
        {
            if (!_from.TryGetValue(on, out var linked))
                _from[on] = linked = [];
            linked.Add(machine.Id);
            touched.Add(on);
        }

        foreach (var name in new[] { before?.Name, machine.Name }.OfType<string>().Where(_from.ContainsKey))
            touched.Add(name);
    }

    /// <summary>The machines that name a machine.</summary>
    public IReadOnlyCollection<MachineId> To(string name) => _from.TryGetValue(name, out var linked) ? linked : [];
}
