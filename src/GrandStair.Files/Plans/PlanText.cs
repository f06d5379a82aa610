using GrandStair.Core.Readings;
using GrandStair.Files.Parsing;
using YamlDotNet.RepresentationModel;

namespace GrandStair.Files.Plans;

/// <summary>
/// Changes the text of a plan by short sentences: <c>limits.all=8</c> puts a value in place of another, <c>crews+={ name: … }</c> adds an
/// entry to a list. An entry of a list is named by its name or one of its sites: <c>crews.harbour.hands=2</c>,
/// <c>uplinks.MV Fulmar.share=60 %</c>.
/// </summary>
public static class PlanText
{
    private const string Expected =
        "expected a field of the plan and its new value, such as limits.all=8 or crews.harbour.hands=2, or an entry to add, such as "
        + "'crews+={ name: second, hands: 1, … }'";

    /// <summary>The most changes in one call.</summary>
    public const int MostChanges = 50;

    private const int LongestChange = 4000;
    private const int LongestPath = 6;

    /// <summary>The text with changes made, one after another.</summary>
    /// <exception cref="FormatException">A change is none; the message says which, and what was expected.</exception>
    public static string With(string body, IEnumerable<string> changes)
    {
        ArgumentNullException.ThrowIfNull(changes);
        var all = changes.ToArray();
        if (all.Length > MostChanges)
            throw new FormatException($"There are {all.Length} changes; expected at most {MostChanges}. Change the plan's file instead.");
        var plan = BoundedYaml.LoadFields(body, "the plan");
        foreach (var change in all)
            Make(plan, change);
        var text = new StringWriter();
        new YamlStream(new YamlDocument(plan)).Save(text, assignAnchors: false);
        return text.ToString();
    }

    private static void Make(YamlMappingNode plan, string change)
    {
        if (change.Length > LongestChange)
            throw new FormatException($"A change has {change.Length} characters; expected at most {LongestChange}.");
        if (PlainText.HasHalfCharacter(change))
            throw new FormatException($"A change has half of a character; {Expected}.");
        var equals = change.IndexOf('=', StringComparison.Ordinal);
        if (equals < 1)
            throw new FormatException($"'{change}' is no change; {Expected}.");
        var adds = change[equals - 1] == '+';
        var path = change[..(adds ? equals - 1 : equals)].Trim().Split('.');
        // Each change may nest what another one has added; without a limit the text could become deeper than it can be written.
        if (path.Length > LongestPath)
            throw new FormatException($"'{change}' names a field {path.Length} levels deep; expected at most {LongestPath}.");
        var value = ValueOf(change[(equals + 1)..].Trim(), change);
        YamlNode at = plan;
        foreach (var name in adds ? path : path[..^1])
            at = Find(at, name, change, makes: adds);
        if (adds)
        {
            if (at is not YamlSequenceNode list)
                throw new FormatException($"'{change}' adds to '{string.Join('.', path)}', which is no list; {Expected}.");
            list.Add(value);
        }
        else if (at is YamlMappingNode map)
        {
            map.Children[new YamlScalarNode(path[^1])] = value;
        }
        else
        {
            throw new FormatException($"'{change}' names nothing that has fields; {Expected}.");
        }
    }

    private static YamlNode Find(YamlNode at, string name, string change, bool makes)
    {
        if (at is YamlMappingNode map)
        {
            if (map.Children.TryGetValue(new YamlScalarNode(name), out var found))
                return found;
            if (makes)
                return map.Children[new YamlScalarNode(name)] = new YamlSequenceNode();
            throw Unknown(name, map.Children.Keys.Select(k => k.ToString()), change);
        }

        if (at is YamlSequenceNode list)
        {
            return list.OfType<YamlMappingNode>().FirstOrDefault(e => Names(e).Contains(name, StringComparer.OrdinalIgnoreCase))
                ?? throw Unknown(name, list.OfType<YamlMappingNode>().SelectMany(Names), change);
        }

        throw new FormatException($"'{change}' goes into '{at}', which has no fields; {Expected}.");
    }

    private static IEnumerable<string> Names(YamlMappingNode entry) =>
        entry
            .Children.Where(c => c.Key.ToString() is "name" or "sites")
            .SelectMany(c => c.Value is YamlSequenceNode several ? several.Select(s => s.ToString()) : [c.Value.ToString()]);

    private static FormatException Unknown(string name, IEnumerable<string> known, string change)
    {
        var all = known.ToArray();
        var end = Spelling.DidYouMean(name, all, $"; it has {string.Join(", ", all.DefaultIfEmpty("nothing"))}.");
        return new($"'{change}': the plan has no '{name}' there{end}");
    }

    private static YamlNode ValueOf(string text, string change)
    {
        if (text.Length == 0)
            throw new FormatException($"'{change}' has no value; {Expected}.");
        try
        {
            return BoundedYaml.Load(text, "the value");
        }
        catch (FileException error)
        {
            throw new FormatException($"'{change}': the value cannot be read. {error.Problems[0].Message}");
        }
    }
}
