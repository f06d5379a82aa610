using System.CommandLine;
using GrandStair.Core.Readings;
using GrandStair.Files.Catalogue;

namespace GrandStair.Cli.Catalogue;

internal static class CatalogueCommands
{
    public static Command Make() =>
        new("catalogue", "Products: releases, hops, checks, methods, keys") { List(), Keys(), Issues(), Validate(), Changes(), Approve() };

    private static Command List()
    {
        var command = new Command("list", "List the products in the catalogue");
        command.Asks(
            (_, client, stop) => client.CatalogueAsync(stop),
            (products, screen) =>
                screen.Table(
                    ["product", "release", "status", "support ends", "hops to it?", "methods"],
                    products.SelectMany(p =>
                        p.Releases.Select(r =>
                            new[]
                            {
                                p.Name,
                                r.Name,
                                Screen.Word(r.Status),
                                string.Join(", ", r.SupportEnds.Select(e => e.Key == "*" ? e.Value : $"{e.Key} {e.Value}")),
                                string.Join(", ", p.Hops.Where(h => h.To == r.Version).Select(h => h.Name)),
                                p.Hops.Any(h => h.To == r.Version) ? string.Join(", ", p.Methods.Select(m => m.Name)) : "",
                            }
                        )
                    )
                )
        );
        return command;
    }

    private static Command Changes()
    {
        var command = new Command("changes", "Show changes in the catalogue's folders that wait for approval");
        command.Asks(
            (_, client, stop) => client.CatalogueChangesAsync(stop),
            (changes, screen) =>
            {
                if (changes.Count == 0)
                    screen.Say("Nothing waits: every product is as it was approved.");
                foreach (var change in changes)
                {
                    screen.Say($"**{change.Product}** {change.Hash}");
                    foreach (var file in change.Files)
                    {
                        screen.Say($"  **{file.File}** {file.Change}{(file.After is null ? "" : $", SHA-256 {file.After}")}");
                        foreach (var line in file.Lines)
                            screen.Say($"    {line}");
                    }

                    screen.Hint($"gstair catalogue approve \"{change.Product}\" {change.Hash} --reason …");
                }
            }
        );
        return command;
    }

    private static Command Approve()
    {
        var product = new Argument<string>("product") { Description = "The product." };
        var hash = new Argument<string>("hash") { Description = "Hash of what you reviewed, as 'catalogue changes' shows it." };
        var reason = new Option<string>("--reason")
        {
            Description = "Reason for the approval, recorded in the audit log with your name.",
            Required = true,
        };
        var command = new Command("approve", "Approve a changed product with its scripts, so that it is used from now on")
        {
            product,
            hash,
            reason,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.ApproveCatalogueAsync(parsed.GetValue(product)!, parsed.GetValue(hash)!, parsed.GetValue(reason)!, stop);
                screen.Say(
                    $"**{parsed.GetValue(product)}** is used as it is in the folder now. Running runs go on with what they began with."
                );
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Keys()
    {
        var command = new Command("keys", "Show the keys that conditions can ask about");
        command.Asks(
            (_, client, stop) => client.KeysAsync(stop),
            (keys, screen) =>
                screen.Table(
                    ["key", "kind", "meaning"],
                    keys.Select(k =>
                        new[]
                        {
                            k.Key,
                            k.Kind,
                            k.Columns.Count == 0
                                ? k.Meaning
                                : $"{k.Meaning}: {string.Join(", ", k.Columns.Select(c => $"{c.Column} ({c.Kind})"))}",
                        }
                    )
                )
        );
        return command;
    }

    private static Command Issues()
    {
        var command = new Command(
            "issues",
            "Show the known issues: which machines they affect, since which build, and which build fixes them"
        );
        command.Asks(
            (_, client, stop) => client.CatalogueAsync(stop),
            (products, screen) =>
                screen.Table(
                    ["issue", "release", "need", "since?", "fixed in?", "touches"],
                    products.SelectMany(p =>
                        p.KnownIssues.Select(i =>
                            new[]
                            {
                                i.Title,
                                $"{p.Name} {i.Release}",
                                i.Need,
                                i.Since ?? "the first",
                                i.FixedIn ?? "no build yet",
                                i.Touches,
                            }
                        )
                    )
                )
        );
        return command;
    }

    private static Command Validate()
    {
        var folder = new Argument<string>("folder") { Description = "Folder of a product, which contains product.yaml." };
        var command = new Command("validate", "Validate a product's folder without a service; reports line and column of each error")
        {
            folder,
        };
        command.SetAction((parsed, _) => Caller.ProtectAsync(parsed, () =>
                {
                    var path = parsed.GetValue(folder)!;
                    var product = CatalogueFolder.Parse(
                        CatalogueFolder.Load(path),
                        KeyRegistry.BuiltIn,
                        Path.Combine(path, "product.yaml")
                    );
                    new Screen().Say(
                        $"**{product.Name}** is well formed: {product.Releases.Length} releases, {product.Hops.Length} hops, "
                            + $"{product.Hops.Sum(h => h.Checks.Length)} checks, {product.Methods.Length} methods; hash "
                            + $"{product.Hash[..12]}"
                    );
                    return Task.FromResult(ExitStatus.Done);
                }));
        return command;
    }
}
