using GrandStair.Core.Readings;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace GrandStair.Files.Plans;

/// <summary>
/// Changes the text of a plan by short sentences: <c>limits.all=8</c> puts a value in place of another, <c>crews+={ name: … }</c> adds an
/// entry to a list. An entry of a list is named by its name or one of its sites: <c>crews.harbour.hands=2</c>, <c>lines.MV Fulmar.share=60 %</c>.
/// </summary>
public static class PlanText
{
    private const string Expected = "expected a field of the plan and its new value, such as limits.all=8 or crews.harbour.hands=2, or an entry to add, such as 'crews+={ name: second, hands: 1, … }'";

    /// <summary>The text with changes made, one after another.</summary>
    /// <exception cref="FormatException">A change is none; the message says which, and what was expected.</exception>
    public static string With(string body, IEnumerable<string> changes)
    {
        ArgumentNullException.ThrowIfNull(changes);
        var stream = new YamlStream();
        stream.Load(new StringReader(body));
        foreach (var change in changes) Make((YamlMappingNode)stream.Documents[0].RootNode, change);
        var text = new StringWriter();
        stream.Save(text, assignAnchors: false);
        return text.ToString();
    }

    private static void Make(YamlMappingNode plan, string change)
    {
        var equals = change.IndexOf('=', StringComparison.Ordinal);
        if (equals < 1) throw new FormatException($"'{change}' is no change; {Expected}.");
        var adds = change[equals - 1] == '+';
        var path = change[..(adds ? equals - 1 : equals)].Trim().Split('.');
        var value = ValueOf(change[(equals + 1)..].Trim(), change);
        YamlNode at = plan;
        foreach (var name in adds ? path : path[..^1]) at = Find(at, name, change, makes: adds);
        if (adds)
        {
            if (at is not YamlSequenceNode list) throw new FormatException($"'{change}' adds to '{string.Join('.', path)}', which is no list; {Expected}.");
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
            if (map.Children.TryGetValue(new YamlScalarNode(name), out var found)) return found;
            if (makes) return map.Children[new YamlScalarNode(name)] = new YamlSequenceNode();
            throw Unknown(name, map.Children.Keys.Select(k => k.ToString()), change);
        }

        if (at is YamlSequenceNode list)
        {
            return list.OfType<YamlMappingNode>().FirstOrDefault(e => Names(e).Contains(name, StringComparer.OrdinalIgnoreCase))
                ?? throw Unknown(name, list.OfType<YamlMappingNode>().SelectMany(Names), change);
        }

        throw new FormatException($"'{change}' goes into '{at}', which has no fields; {Expected}.");
    }

    private static IEnumerable<string> Names(YamlMappingNode entry) => entry.Children.Where(c => c.Key.ToString() is "name" or "sites")
        .SelectMany(c => c.Value is YamlSequenceNode several ? several.Select(s => s.ToString()) : [c.Value.ToString()]);

    private static FormatException Unknown(string name, IEnumerable<string> known, string change)
    {
        var all = known.ToArray();
        return new($"'{change}': the plan has no '{name}' there{(Spelling.Nearest(name, all) is { } near ? $"; did you mean '{near}'?" : $"; it has {string.Join(", ", all.DefaultIfEmpty("nothing"))}.")}");
    }

    private static YamlNode ValueOf(string text, string change)
    {
        var stream = new YamlStream();
        try
        {
            stream.Load(new StringReader(text));
        }
        catch (YamlException error)
        {
            throw new FormatException($"'{change}': the value cannot be read: {error.Message}");
        }

        return stream.Documents.Count == 1 ? stream.Documents[0].RootNode : throw new FormatException($"'{change}' has no value; {Expected}.");
    }
}
