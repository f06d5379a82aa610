namespace GrandStair.Storage.Fleet;

/// <summary>What the table of machines has of one besides its readings, and an import may change.</summary>
internal abstract record MachineColumns
{
    public string Name { get; init; } = "";

    public string Site { get; init; } = "";

    public string GroupName { get; init; } = "";

    public string Owner { get; init; } = "";

    public string Tags { get; init; } = "";

    public string ConnectionKind { get; init; } = "";

    public string Address { get; init; } = "";

    public long Port { get; init; }

    public string UserName { get; init; } = "";

    public string? HostKey { get; init; }

    public string? HostKeyFrom { get; init; }

    public string? SshKey { get; init; }
}
