namespace GrandStair.Core.Access;

/// <summary>What kind of account it is.</summary>
public enum AccountKind
{
    /// <summary>A person's: signs in, and has sessions.</summary>
    Person,

    /// <summary>A program's: has tokens, and never signs in to the console.</summary>
    Program,
}

/// <summary>Who commands, and from where; kept with every command.</summary>
/// <param name="Name">The account's name; <c>worker</c> and <c>schedule</c> are the service itself.</param>
/// <param name="From">The address and the way in, such as <c>127.0.0.1 by token t3</c>; empty for the service itself.</param>
public sealed record Actor(string Name, string From = "")
{
    /// <summary>The worker that drives runs.</summary>
    public static Actor Worker { get; } = new("worker");

    /// <summary>What is done by a schedule.</summary>
    public static Actor Schedule { get; } = new("schedule");

    /// <inheritdoc />
    public override string ToString() => Name;
}

/// <summary>A caller, with roles and sites.</summary>
/// <param name="Actor">The account, and from where it calls.</param>
/// <param name="Kind">Whether it is a person's account or a program's.</param>
/// <param name="Roles">The caller's roles.</param>
/// <param name="Sites">The sites that the caller sees.</param>
public sealed record Caller(Actor Actor, AccountKind Kind, Roles Roles, SiteScope Sites);

/// <summary>What a call needs of whoever makes it.</summary>
/// <param name="Any">Roles of which the caller needs one; <see cref="Roles.None"/> where any account will do.</param>
/// <param name="AllSites">Whether it concerns the whole fleet, so that an account of some sites is not enough.</param>
public sealed record Right(Roles Any, bool AllSites = false)
{
    /// <summary>Why a caller is not allowed; null where they are. It says nothing that depends on what exists.</summary>
    public string? Refuses(Caller caller)
    {
        ArgumentNullException.ThrowIfNull(caller);
        if (caller.Roles == Roles.None)
            return $"The account '{caller.Actor.Name}' has no role. Ask an admin for one.";
        if (Any != Roles.None && (caller.Roles & Any) == Roles.None)
            return $"This needs the role {string.Join(" or ", Any.Names())}; '{caller.Actor.Name}' has "
                + $"{string.Join(", ", caller.Roles.Names())}. Ask someone who has it, or ask an admin for the role.";
        return AllSites && !caller.Sites.IsAll
            ? $"This concerns every site, and '{caller.Actor.Name}' is an account of some: {caller.Sites}. Ask someone whose account "
                + $"is for all sites."
            : null;
    }
}
