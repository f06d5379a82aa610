namespace GrandStair.Contracts;

/// <summary>A part of a list.</summary>
/// <param name="Items">The entries.</param>
/// <param name="Next">The cursor of the next part; null where this is the last.</param>
/// <param name="Total">How many entries there are in all.</param>
public sealed record Page<T>(IReadOnlyList<T> Items, string? Next, int Total)
{
    /// <summary>Of how many more it is unknown whether they belong here; null where that does not arise.</summary>
    public int? Undecided { get; init; }
}

/// <summary>The caller, what they may do, and the service's time.</summary>
/// <param name="Kind"><c>person</c> or <c>program</c>.</param>
/// <param name="Roles">The caller's roles.</param>
/// <param name="Sites">The sites that the caller sees; <c>*</c> for all sites.</param>
/// <param name="Calls">The calls of the interface, by their names, that the caller's roles and sites allow.</param>
/// <param name="HasPassword">Whether the account has a password of its own.</param>
/// <param name="Notices">What everybody who works here should know of the service just now.</param>
public sealed record SessionView(
    string Actor,
    string Kind,
    IReadOnlyList<string> Roles,
    IReadOnlyList<string> Sites,
    IReadOnlyList<string> Calls,
    bool HasPassword,
    IReadOnlyList<string> Notices,
    string Version,
    DateTimeOffset Now,
    double Pace
);

/// <summary>Credentials for signing in: a token, or an account with its password.</summary>
public sealed record SignIn(string? Token = null, string? Account = null, string? Password = null);

/// <summary>How one may sign in besides with a password or a token.</summary>
/// <param name="Provider">The name of the provider that vouches for people; null where there is none.</param>
/// <param name="Start">The path that leads to it.</param>
/// <param name="Terminal">How a terminal signs in by it; null where it does not.</param>
public sealed record SignInWays(string? Provider, string? Start, TerminalWay? Terminal);

/// <summary>How a terminal without a browser signs in (RFC 8628).</summary>
/// <param name="Authority">The provider's address.</param>
/// <param name="Client">The name under which the terminal is known to it.</param>
/// <param name="Scopes">What is asked for.</param>
public sealed record TerminalWay(string Authority, string Client, IReadOnlyList<string> Scopes);

/// <summary>An account.</summary>
/// <param name="Kind"><c>person</c> or <c>program</c>.</param>
/// <param name="Roles">What it may do: some of reader, auditor, planner, approver, operator, admin.</param>
/// <param name="Sites">What it may see; <c>*</c> for all sites.</param>
/// <param name="Provider">The sign-in provider that vouches for it; null for an account of the service's own.</param>
/// <param name="HasPassword">Whether it can sign in with a password.</param>
/// <param name="Ended">When it ended; null while it is valid.</param>
public sealed record AccountView(
    string Name,
    string Kind,
    IReadOnlyList<string> Roles,
    IReadOnlyList<string> Sites,
    string? Provider,
    bool HasPassword,
    DateTimeOffset? PasswordChanged,
    DateTimeOffset Created,
    string CreatedBy,
    DateTimeOffset? LastUsed,
    DateTimeOffset? Ended
);

/// <summary>A new account.</summary>
/// <param name="Kind"><c>person</c> or <c>program</c>.</param>
/// <param name="Sites">What it may see; <c>*</c> for all sites.</param>
public sealed record AccountCommand(string Name, string Kind, IReadOnlyList<string> Roles, IReadOnlyList<string> Sites, string Reason);

/// <summary>What an account may from now on.</summary>
public sealed record AccountChange(IReadOnlyList<string> Roles, IReadOnlyList<string> Sites, string Reason);

/// <summary>A password that an admin sets.</summary>
public sealed record PasswordCommand(string Password);

/// <summary>One's own new password, with the one that stood.</summary>
public sealed record PasswordChange(string Old, string New);

/// <summary>A token for programs.</summary>
/// <param name="Id">Its number, such as <c>t3</c>.</param>
/// <param name="Label">What it is for.</param>
/// <param name="State"><c>active</c>, <c>ended</c> or <c>expired</c>.</param>
/// <param name="LastFrom">The address from which it was last used.</param>
/// <param name="MadeWith">The token, such as <c>t1</c>, that it was made with and ends together with, or the session, such as <c>s4</c>,
/// that it was made in; null for neither.</param>
public sealed record TokenView(
    string Id,
    string Account,
    string Label,
    string State,
    IReadOnlyList<string> Roles,
    IReadOnlyList<string> Sites,
    DateTimeOffset Created,
    string CreatedBy,
    DateTimeOffset? Expires,
    DateTimeOffset? LastUsed,
    string? LastFrom,
    string? MadeWith
);

/// <summary>A token that is to be made.</summary>
/// <param name="Label">What it is for.</param>
/// <param name="Days">After how many days it ends, 1 to 366.</param>
/// <param name="Account">Whose it is; null for one's own.</param>
/// <param name="Roles">What it may do, as far as the account may; null for all of that.</param>
/// <param name="Sites">What it may see, as far as the account may; null for all of that.</param>
public sealed record TokenCommand(
    string Label,
    int Days,
    string? Account = null,
    IReadOnlyList<string>? Roles = null,
    IReadOnlyList<string>? Sites = null
);

/// <summary>A token that was made.</summary>
/// <param name="Secret">The token itself. It is shown only once, and not stored.</param>
public sealed record NewToken(string Secret, TokenView Token);

/// <summary>A session of the console.</summary>
/// <param name="Id">Its number, such as <c>s3</c>.</param>
/// <param name="Way">How it was begun: <c>password</c>, <c>token</c>, <c>connection</c> or by a provider.</param>
/// <param name="Own">Whether it is the very session that asks.</param>
public sealed record SignedInView(
    string Id,
    string Account,
    string Way,
    DateTimeOffset Begun,
    DateTimeOffset Expires,
    DateTimeOffset LastUsed,
    string From,
    string Agent,
    bool Own
);

/// <summary>What there is to know of a secret; never the secret.</summary>
public sealed record SecretView(
    string Name,
    DateTimeOffset Created,
    string CreatedBy,
    DateTimeOffset Changed,
    string ChangedBy,
    DateTimeOffset? LastUsed
);

/// <summary>A secret to keep.</summary>
public sealed record SecretCommand(string Value);

/// <summary>What encrypting the secrets again did.</summary>
/// <param name="Secrets">How many there were.</param>
public sealed record RotationView(int Secrets);

/// <summary>The host key of a machine.</summary>
/// <param name="HostKey">The pinned key's kind and fingerprint; null where none is pinned, and then nothing is sent.</param>
/// <param name="From">How it came to be pinned: <c>import</c>, <c>known-hosts</c>, <c>person</c> or <c>first-use</c>, which nobody
/// compared.</param>
public sealed record HostKeyView(string Machine, string Site, string Address, int Port, string? HostKey, string? From);

/// <summary>What a line of a known_hosts file means for a machine.</summary>
/// <param name="Outcome"><c>pinned</c> (or would be), <c>same</c>, <c>differs</c>, <c>another-kind</c>, <c>no-machine</c> or
/// <c>not-understood</c>.</param>
/// <param name="Said">The key that the file says, or what is wrong with the line.</param>
/// <param name="Pinned">The key that is pinned.</param>
public sealed record KnownHostView(int Line, string Outcome, string? Machine, string Said, string? Pinned);

/// <summary>A site where the first host key that a machine shows is trusted.</summary>
public sealed record FirstUseView(string Site, string Reason, string By, DateTimeOffset Since);

/// <summary>A script that was run on a machine.</summary>
/// <param name="Hash">The SHA-256 of its content.</param>
/// <param name="Purpose"><c>read</c>, <c>step</c> or <c>fix</c>.</param>
/// <param name="For">The plan, or the account, that it was run for.</param>
/// <param name="LastOrder">The order by which it was last run; empty for a reading.</param>
public sealed record ScriptUseView(
    string Machine,
    string Product,
    string Script,
    string Hash,
    string Purpose,
    string For,
    DateTimeOffset First,
    DateTimeOffset Last,
    string LastOrder,
    long Times
);

/// <summary>A product whose files were changed; its approved version stays in use until the change is approved.</summary>
/// <param name="Hash">The hash of what waits, which the approval names.</param>
/// <param name="Files">What is different.</param>
public sealed record CatalogueChangeView(string Product, string Hash, DateTimeOffset Found, IReadOnlyList<FileChangeView> Files);

/// <summary>A file of a product that is different.</summary>
/// <param name="Change"><c>added</c>, <c>changed</c> or <c>removed</c>.</param>
/// <param name="Before">The SHA-256 of what stood; null where there was nothing.</param>
/// <param name="After">The SHA-256 of what is there; null where there is nothing.</param>
/// <param name="Lines">The lines that went, each after <c>- </c>, and that came, each after <c>+ </c>.</param>
public sealed record FileChangeView(string File, string Change, string? Before, string? After, IReadOnlyList<string> Lines);

/// <summary>The approval of a changed product.</summary>
/// <param name="Hash">The hash of what was looked at.</param>
public sealed record ApproveCommand(string Hash, string Reason);

/// <summary>A command as it was given.</summary>
/// <param name="Number">Its place in the audit, without gaps.</param>
/// <param name="From">From where, and by which way in.</param>
/// <param name="Machine">The name of the machine that it concerns; null where it concerns none or many.</param>
/// <param name="Before">What was so before.</param>
/// <param name="After">What is so since.</param>
/// <param name="Hash">Its hash after the entry before it; null until it is sealed, a moment later.</param>
public sealed record AuditView(
    long Number,
    DateTimeOffset At,
    string Actor,
    string From,
    string Command,
    string Subject,
    string? Machine,
    string? Before,
    string? After,
    string Reason,
    string? Hash
);

/// <summary>Whether the audit is as it was sealed.</summary>
/// <param name="Entries">How many entries were looked at.</param>
/// <param name="Unsealed">How many of them, at the end, are not sealed yet.</param>
/// <param name="Seals">How many signed seals there are.</param>
/// <param name="Head">The hash of the last sealed entry.</param>
/// <param name="Key">The SHA-256 of the public key that checks the seals.</param>
/// <param name="Faults">What is not as it was sealed.</param>
public sealed record AuditVerdict(long Entries, int Unsealed, int Seals, string Head, string Key, IReadOnlyList<AuditFaultView> Faults);

/// <summary>Something in the audit that is not as it was sealed.</summary>
public sealed record AuditFaultView(long Number, string What);

/// <summary>A reason for what is commanded.</summary>
public sealed record Because(string Reason);

/// <summary>A reading key.</summary>
/// <param name="Columns">The columns of a table; empty for every other kind.</param>
public sealed record KeyView(string Key, string Kind, string Meaning, IReadOnlyList<ColumnView> Columns);

/// <summary>A column of a table.</summary>
public sealed record ColumnView(string Column, string Kind, string Meaning);

/// <summary>A product of the catalogue.</summary>
public sealed record ProductView(
    string Name,
    string Hash,
    IReadOnlyList<string> Editions,
    IReadOnlyList<string> Components,
    IReadOnlyList<ReleaseView> Releases,
    IReadOnlyList<IssueView> KnownIssues,
    IReadOnlyList<HopView> Hops,
    IReadOnlyList<MethodView> Methods
);

/// <summary>A release of a product.</summary>
public sealed record ReleaseView(
    string Version,
    string Name,
    string Status,
    string? Out,
    IReadOnlyDictionary<string, string> SupportEnds,
    IReadOnlyList<BuildView> Builds,
    IReadOnlyList<MustReadView> MustReads
);

/// <summary>A build of a release.</summary>
public sealed record BuildView(string Version, string? Out, string Notes);

/// <summary>What has to be read before machines go to a release.</summary>
public sealed record MustReadView(string Name, string Title, string Words);

/// <summary>Something wrong in builds of a release.</summary>
public sealed record IssueView(
    string Name,
    string Title,
    string Release,
    string Need,
    string Touches,
    string? Since,
    string? FixedIn,
    FixView Fix
);

/// <summary>A supported step between releases.</summary>
public sealed record HopView(
    string Name,
    string? Component,
    IReadOnlyList<string> From,
    string To,
    IReadOnlyDictionary<string, string> Editions,
    int Checks
);

/// <summary>A way to do a hop.</summary>
/// <param name="Way"><c>upgrade</c>, <c>replace</c>, <c>retire</c> or <c>stay</c>.</param>
/// <param name="SlotMinutes">How many minutes a slot usually lasts.</param>
public sealed record MethodView(
    string Name,
    string Title,
    string Way,
    IReadOnlyList<string> Hops,
    string? Suits,
    string Preserves,
    string? Media,
    string? Crew,
    bool OwnerPresent,
    double SlotMinutes,
    string Rollback
);

/// <summary>Something wrong in a line of a file.</summary>
public sealed record LineProblem(int Line, string Message);

/// <summary>The possible continuations of a condition that is being written.</summary>
/// <param name="From">Where the word begins that an offer takes the place of, counted from 0.</param>
/// <param name="Coming">What may come: key, column, comparison, value or join.</param>
public sealed record CompletionView(int From, string Coming, IReadOnlyList<OfferedView> Offers);

/// <summary>Something that may come next in a condition.</summary>
/// <param name="Hint">What it means, or on how many machines it is so.</param>
public sealed record OfferedView(string Text, string Hint);

/// <summary>What an import did, or would do.</summary>
/// <param name="ResumedAfter">The line after which it went on, where the same file had been cut short before; null otherwise.</param>
/// <param name="Problems">What is wrong in which line; of very many the first.</param>
/// <param name="Groups">The problems by what is wrong, those of most lines first; they count all.</param>
public sealed record ImportReport(
    int Added,
    int Updated,
    int Lines,
    bool Dry,
    int? ResumedAfter,
    IReadOnlyList<LineProblem> Problems,
    IReadOnlyList<ProblemGroup> Groups
);

/// <summary>The same problem in several lines of a file.</summary>
/// <param name="What">What is wrong, such as <c>values of hardware.memory</c>.</param>
/// <param name="FirstLine">The first line of these.</param>
/// <param name="Example">What is wrong in that line.</param>
public sealed record ProblemGroup(string What, int Count, int FirstLine, string Example);

/// <summary>An import of a fleet file, running, cut short or over.</summary>
/// <param name="Ticket">The name that the caller gave it.</param>
/// <param name="Ended">When all of the file was taken; null before, also where it was cut short.</param>
/// <param name="Lines">How many lines the file has.</param>
/// <param name="Line">The line that was reached.</param>
public sealed record ImportView(
    long Import,
    string? Ticket,
    string Source,
    string Actor,
    DateTimeOffset Begun,
    DateTimeOffset? Ended,
    int Lines,
    int Line,
    int Added,
    int Updated
)
{
    /// <summary>When it was undone, UTC; null while it stands.</summary>
    public DateTimeOffset? Undone { get; init; }

    /// <summary>Who undid it; null while it stands.</summary>
    public string? UndoneBy { get; init; }

    /// <summary>Whether it can be undone: it is one of the newest, and what it changed is known.</summary>
    public bool CanBeUndone { get; init; }
}

/// <summary>What undoing an import did.</summary>
/// <param name="Removed">How many machines that it had added were removed.</param>
/// <param name="Restored">How many machines have their values from before it again.</param>
public sealed record ImportUndoneView(int Removed, int Restored);

/// <summary>Which machines to remove from the fleet, and why. Their runs, readings and audit entries stay.</summary>
/// <param name="Machines">Names or ids, at most 1,000.</param>
public sealed record RemoveCommand(IReadOnlyList<string> Machines, string Reason);

/// <summary>What a removal did.</summary>
/// <param name="Removed">How many machines were removed.</param>
public sealed record RemovedView(int Removed);

/// <summary>That a machine was removed from the fleet.</summary>
/// <param name="At">When, UTC.</param>
public sealed record RemovalView(DateTimeOffset At, string By, string Reason);

/// <summary>A source of readings.</summary>
/// <param name="EverySeconds">How often it is read; null for on demand only.</param>
/// <param name="Trouble">What was wrong when it was last read; null where nothing was.</param>
/// <param name="Problems">What was wrong in this reading.</param>
public sealed record SourceView(
    string Name,
    string Kind,
    string Where,
    double? EverySeconds,
    DateTimeOffset? LastRead,
    int? Machines,
    int? Added,
    string? Trouble,
    IReadOnlyList<string> Problems
);

/// <summary>A machine in a list.</summary>
/// <param name="Status">Its status in the newest plan that it is in; null where it is in none.</param>
/// <param name="LastSeen">When anything of it was last seen; null where nothing ever was.</param>
public sealed record MachineRow(
    string Id,
    string Name,
    string Site,
    string Group,
    string Owner,
    IReadOnlyList<string> Tags,
    string? Product,
    string? Version,
    string? Edition,
    string? Model,
    DateTimeOffset? LastSeen,
    int Conflicts,
    string? Plan,
    string? Wave,
    string? Status
);

/// <summary>A machine with all that is known of it.</summary>
/// <param name="Silent">Whether nothing was heard of it for a time.</param>
public sealed record MachineView(
    MachineRow Machine,
    bool Silent,
    ConnectionView Connection,
    IReadOnlyList<ReadingView> Readings,
    IReadOnlyList<ReadingView> Conflicts,
    IReadOnlyList<PlaceView> Places,
    IReadOnlyList<RunRow> Runs
)
{
    /// <summary>That it was removed from the fleet; null while it belongs to it.</summary>
    public RemovalView? Removed { get; init; }

    /// <summary>The other machine of an upgrade side by side; null where there is none.</summary>
    public PairView? Pair { get; init; }
}

/// <summary>The other machine of an upgrade side by side.</summary>
/// <param name="Other">Its name.</param>
/// <param name="State">What this machine is: <c>to-be-replaced</c> or <c>replaced</c> by the other, <c>stands-by</c> to take its place, or
/// <c>took-over</c> from it.</param>
public sealed record PairView(string Other, string State);

/// <summary>How a machine is reached.</summary>
/// <param name="HostKey">The pinned key's kind and fingerprint; null where none is pinned.</param>
/// <param name="HostKeyFrom">How it came to be pinned: <c>import</c>, <c>known-hosts</c>, <c>person</c> or <c>first-use</c>, which nobody
/// compared.</param>
/// <param name="Key">The name of the secret that logs in; null for the service's own key.</param>
public sealed record ConnectionView(string Kind, string Address, int Port, string User, string? HostKey, string? HostKeyFrom, string? Key);

/// <summary>A reading.</summary>
/// <param name="Shown">The value as people read it, <c>absent</c>, or why it could not be read.</param>
/// <param name="AgeSeconds">How long ago it was seen.</param>
public sealed record ReadingView(
    string Key,
    string State,
    string Shown,
    DateTimeOffset Seen,
    DateTimeOffset Received,
    double AgeSeconds,
    string Source,
    bool Clamped
);

/// <summary>A machine's place in a plan.</summary>
public sealed record PlaceView(
    string Plan,
    string Wave,
    string Status,
    string? Why,
    string? Method,
    DateTimeOffset? SlotStart,
    DateTimeOffset? SlotEnd,
    string? Run
);

/// <summary>Whether a machine may go to a target, and why not.</summary>
/// <param name="Gate"><c>open</c>, <c>undecided</c> or <c>blocked</c>.</param>
/// <param name="Arrived">Whether it runs the target already.</param>
/// <param name="Until">When the answer may change by readings growing old alone.</param>
public sealed record GateView(
    string Machine,
    string Target,
    string Gate,
    bool Arrived,
    string? Why,
    IReadOnlyList<string> Route,
    string? Method,
    string? Preserves,
    IReadOnlyList<RejectedMethodView> Rejected,
    IReadOnlyList<CheckView> Checks,
    DateTimeOffset? Until
)
{
    /// <summary>The legs of the route in order, each with its method.</summary>
    public required IReadOnlyList<LegView> Legs { get; init; }

    /// <summary>The routes that lost, with the reason against each.</summary>
    public required IReadOnlyList<AlternativeView> Alternatives { get; init; }

    /// <summary>The release to which it was upgraded only partly; null where it was not.</summary>
    public string? PartlyTo { get; init; }

    /// <summary>The first build of the target that spares this machine every must-issue; null where any will do.</summary>
    public string? Build { get; init; }

    /// <summary>Whether the target is offered to it: <c>to-all</c>, <c>offered</c>, <c>not-yet</c> or <c>unknown</c>.</summary>
    public required string Offer { get; init; }

    /// <summary>How long it is out of service on the route, in minutes.</summary>
    public required double OutageMinutes { get; init; }

    /// <summary>
    /// What becomes of it in place of an upgrade: <c>replace</c>, <c>retire</c> or <c>stay</c>; null where it is upgraded.
    /// </summary>
    public string? Instead { get; init; }

    /// <summary>A person's choice of the method; null where the plan's order holds.</summary>
    public OverrideView? Overridden { get; init; }
}

/// <summary>One leg of a route.</summary>
/// <param name="Why">Why it has no method; null where it has one.</param>
public sealed record LegView(
    string Hop,
    string? Component,
    string To,
    string? Edition,
    IReadOnlyDictionary<string, string> Brings,
    string? Method,
    string? Title,
    string? Preserves,
    string? Why
);

/// <summary>A route that was not taken.</summary>
public sealed record AlternativeView(IReadOnlyList<string> Hops, string Why);

/// <summary>A person's choice of the method for one machine.</summary>
public sealed record OverrideView(string Method, string Reason, string By, DateTimeOffset At);

/// <summary>A method that was not chosen, with the reason.</summary>
public sealed record RejectedMethodView(string Method, string Why);

/// <summary>A check's answer for one machine.</summary>
/// <param name="Leg">The leg that it belongs to, from 1.</param>
/// <param name="Moments">When it is asked: <c>planning</c>, <c>start</c>, <c>protected</c>, <c>verification</c>.</param>
/// <param name="FreshSeconds">How old its readings may be; null for any age.</param>
/// <param name="Waiver">The waiver that counts; null where none does.</param>
/// <param name="Lapsed">Why a waiver no longer counts; null where none was given or it does.</param>
public sealed record CheckView(
    string Name,
    string Title,
    string Need,
    string State,
    IReadOnlyList<SeenView> Seen,
    string Wanted,
    FixView Fix,
    int Leg,
    string? Component,
    IReadOnlyList<string> Moments,
    double? FreshSeconds,
    bool Waivable,
    WaiverView? Waiver,
    string? Lapsed
);

/// <summary>A named person's decision to go on in spite of a must.</summary>
/// <param name="Id">Its number, such as <c>w3</c>; null within a gate.</param>
/// <param name="State"><c>active</c>, <c>ended</c> or <c>expired</c>.</param>
public sealed record WaiverView(
    string? Id,
    string? Machine,
    string Check,
    string Reason,
    string By,
    DateTimeOffset Given,
    DateTimeOffset Until,
    string State
);

/// <summary>A must to waive on a machine.</summary>
/// <param name="Until">The last day on which it counts, as <c>2027-03-31</c>.</param>
public sealed record WaiveCommand(string Reason, string Until);

/// <summary>A method to choose for one machine in spite of the plan's order.</summary>
/// <param name="Method">Its name; null goes back to the plan's order.</param>
public sealed record MethodCommand(string Reason, string? Method = null);

/// <summary>What has to be acknowledged before a plan starts.</summary>
/// <param name="Kind"><c>must-read</c>, <c>licence-terms</c>, <c>caution</c> or <c>preserves</c>.</param>
/// <param name="By">Who acknowledged it; null while it is open.</param>
public sealed record AcknowledgementView(
    string Kind,
    string Name,
    string Title,
    string Words,
    int Machines,
    string? By,
    DateTimeOffset? At,
    string? Reason
);

/// <summary>An acknowledgement.</summary>
/// <param name="Names">What is acknowledged; null for all of it.</param>
public sealed record AcknowledgeCommand(string Reason, IReadOnlyList<string>? Names = null);

/// <summary>A fix script that was sent to a machine.</summary>
/// <param name="State"><c>running</c>, <c>done</c> or <c>failed</c>.</param>
/// <param name="CheckState">What the check came to when it was asked again; null before.</param>
public sealed record FixRunView(
    string Id,
    string Machine,
    string Check,
    string Script,
    string ScriptHash,
    string Actor,
    DateTimeOffset Begun,
    DateTimeOffset? NotBefore,
    DateTimeOffset? Ended,
    int? Exit,
    string Note,
    string State,
    string? CheckState
);

/// <summary>Who of a product is exposed, and from when.</summary>
/// <param name="By">The day that was asked about: support must not end before it.</param>
/// <param name="Fallen">How many machines' support is over.</param>
/// <param name="Falling">How many machines' support ends before that day; those that have fallen among them.</param>
/// <param name="Trend">How many machines ran which release on which day.</param>
public sealed record ExposureView(
    string Product,
    string? Recommended,
    int Machines,
    string? By,
    int Fallen,
    int Falling,
    IReadOnlyList<ReleaseExposureView> Releases,
    IReadOnlyList<TallyView> Trend
);

/// <summary>The machines on one release in one edition.</summary>
/// <param name="Condition">The condition that lists them.</param>
public sealed record ReleaseExposureView(
    string? Release,
    string Name,
    string Status,
    string? Edition,
    int Machines,
    string? SupportEnds,
    int? DaysLeft,
    string Condition
);

/// <summary>How many machines ran a release on a day.</summary>
public sealed record TallyView(string Day, string Release, int Machines);

/// <summary>A machine on which two sources conflict.</summary>
public sealed record ConflictView(
    string Machine,
    string Site,
    string Key,
    string Counts,
    string CountsSource,
    double CountsAgeSeconds,
    string Other,
    string OtherSource,
    double OtherAgeSeconds
);

/// <summary>What a check looked at.</summary>
/// <param name="Note">Why it is unknown; null where it is known.</param>
public sealed record SeenView(string Condition, string Key, string Shown, double? AgeSeconds, string? Source, string? Note);

/// <summary>How an unmet check is fixed.</summary>
/// <param name="Script">The script that does it; null where a person does.</param>
public sealed record FixView(string By, string Words, double? Minutes, string? Script, bool Restarts);

/// <summary>Whether the machines of a scope may go to a target.</summary>
/// <param name="Open">How many gates are open; those that have arrived are not counted among them.</param>
/// <param name="Checks">Every check with its counts.</param>
/// <param name="Reasons">What keeps machines from having a gate at all: no route, no method.</param>
public sealed record ReadinessView(
    string Target,
    string Scope,
    int Machines,
    int Arrived,
    int Open,
    int Undecided,
    int Blocked,
    int NobodyCanFix,
    int Conflicts,
    DateTimeOffset? Oldest,
    IReadOnlyList<CheckCount> Checks,
    IReadOnlyList<ReasonCount> Reasons
)
{
    /// <summary>How many are eligible, and the release is not offered to them yet.</summary>
    public required int WaitingForOffer { get; init; }

    /// <summary>Of how many machines it is unknown whether they are in the scope.</summary>
    public required int UndecidedScope { get; init; }

    /// <summary>How many machines have not been heard of for a time.</summary>
    public required int Silent { get; init; }

    /// <summary>What to fix, in the order in which it opens the most gates.</summary>
    public required IReadOnlyList<FixingView> ToFix { get; init; }
}

/// <summary>One thing to fix.</summary>
/// <param name="Machines">The machines that it is in the way of and that can be fixed.</param>
/// <param name="Opens">How many gates open when it is fixed after all that come before it.</param>
/// <param name="OpenThen">How many gates are open then.</param>
public sealed record FixingView(string Check, string Title, string By, double? Minutes, bool Script, int Machines, int Opens, int OpenThen);

/// <summary>How one check fares over a scope.</summary>
/// <param name="Opens">How many gates would open if this check alone were fixed.</param>
public sealed record CheckCount(
    string Name,
    string Title,
    string Need,
    int Met,
    int Unmet,
    int Unknown,
    int Waived,
    int Deferred,
    int NotApplicable,
    FixView Fix,
    int Opens,
    string? Part
);

/// <summary>How many machines have no gate for a reason.</summary>
public sealed record ReasonCount(string Reason, int Machines);

/// <summary>A machine behind a number of the readiness.</summary>
public sealed record ReadinessRow(
    string Id,
    string Name,
    string Site,
    string Group,
    string Gate,
    bool CannotBeFixed,
    string? Why,
    string? Method,
    string? CheckState,
    IReadOnlyList<SeenView> Seen
);

/// <summary>A plan in a list.</summary>
public sealed record PlanRow(
    string Name,
    string Target,
    string State,
    string? Held,
    int Machines,
    IReadOnlyDictionary<string, int> Tally,
    DateTimeOffset Created,
    string CreatedBy,
    DateTimeOffset? Started,
    DateTimeOffset? Ended,
    string? Deadline
)
{
    /// <summary>How many of its machines are neither verified, done nor exempt yet.</summary>
    public required int ToGo { get; init; }
}

/// <summary>A plan with its waves.</summary>
/// <param name="Trouble">What keeps a plan that has started from going on, such as a calendar that cannot be read; null where nothing
/// does.</param>
public sealed record PlanView(
    PlanRow Plan,
    string Body,
    string Scope,
    string Preserves,
    IReadOnlyList<string> Methods,
    LimitsView Limits,
    AdvanceView Advance,
    IReadOnlyList<WaveView> Waves,
    IReadOnlyList<string> Undecided,
    PlanningView Planning,
    string? Trouble
);

/// <summary>How many may run at once.</summary>
public sealed record LimitsView(int? All, int? Site);

/// <summary>What must hold before the next wave begins.</summary>
public sealed record AdvanceView(double Verified, int Failures, double SoakHours);

/// <summary>A wave of a plan.</summary>
/// <param name="Why">What the advance rule last said of it, or what it waits for.</param>
public sealed record WaveView(
    int Number,
    string Name,
    string State,
    DateTimeOffset? Opened,
    string? Why,
    int Machines,
    IReadOnlyDictionary<string, int> Tally,
    DateTimeOffset? PlannedFrom,
    DateTimeOffset? PlannedTo
);

/// <summary>A machine of a plan.</summary>
/// <param name="Change">What would have to change for it to get a slot; null where it has one or is not ready.</param>
/// <param name="StageFrom">When its staging begins over the site's uplink; null where none is in the way.</param>
/// <param name="Crew">The crew that is booked for it.</param>
/// <param name="PlannedStart">When it would go as it is scheduled now, where it has no slot yet; else when it was to go as the plan was
/// first scheduled.</param>
/// <param name="Missed">How many slots it missed.</param>
/// <param name="Moved">Who moved it to its wave, and why; null where nobody did.</param>
/// <param name="Chosen">The manually chosen time; null where there is none.</param>
/// <param name="ChosenBy">Who chose it, and why.</param>
public sealed record MemberRow(
    string Id,
    string Name,
    string Site,
    int Wave,
    string WaveName,
    string Status,
    string Gate,
    string? Why,
    bool CannotBeFixed,
    string? Method,
    DateTimeOffset? SlotStart,
    DateTimeOffset? SlotEnd,
    string? Run,
    DateTimeOffset? Verified,
    string? Exemption,
    string? ExemptionReason,
    string? ExemptedBy,
    string? ExemptUntil,
    string? Change,
    DateTimeOffset? StageFrom,
    string? Crew,
    DateTimeOffset? PlannedStart,
    int Missed,
    string? Moved,
    DateTimeOffset? Chosen,
    string? ChosenBy
);

/// <summary>An exemption for a machine that will not go.</summary>
/// <param name="As"><c>replaced</c>, <c>retired</c> or <c>stays</c>.</param>
/// <param name="Until">Until when it stays, as <c>2027-03-31</c>.</param>
public sealed record ExemptCommand(string As, string Reason, string? Until = null);

/// <summary>A decision about a run.</summary>
/// <param name="Decision"><c>retry</c>, <c>wait</c>, <c>cancel</c>, <c>roll-back</c>, <c>give-up</c> or <c>accept</c>.</param>
/// <param name="Now">Whether a rollback begins at once; otherwise it begins in the machine's next window.</param>
public sealed record DecisionCommand(string Decision, string Reason, bool Now = false);

/// <summary>An answer to what a run asks of a person.</summary>
/// <param name="Answer"><c>done</c> or <c>not-possible</c>.</param>
/// <param name="Note">What was done or seen; needed where it is not possible.</param>
/// <param name="Step">The step that is answered; null for the one that asks now.</param>
public sealed record AnswerCommand(string Answer, string? Note = null, string? Step = null);

/// <summary>A fix script to run on a machine.</summary>
/// <param name="Now">Whether a script that restarts the machine runs at once; otherwise it runs in the machine's next window.</param>
public sealed record FixCommand(string Reason, bool Now = false);

/// <summary>A host key to pin.</summary>
public sealed record HostKeyCommand(string HostKey, string Reason);

/// <summary>A run in a list.</summary>
/// <param name="Status">The status of its machine.</param>
/// <param name="PhaseNumber">How far it is: the number of its phase from 1 to 8, in the order gate, stage, wait, protect, apply, verify,
/// settle, closed.</param>
/// <param name="ElapsedSeconds">How long the step or phase running has lasted.</param>
/// <param name="LeftSeconds">How long the steps up to the verification usually take from here; null where nothing is running.</param>
/// <param name="OverSeconds">How much longer than usual the running step has taken, where it takes longer than 95 of 100 do; null where it
/// does not.</param>
/// <param name="Begins">When the step begins, where it waits for the machine's next window; null otherwise.</param>
/// <param name="NoContact">Since when nothing is heard of a machine that has an order; null while it answers.</param>
public sealed record RunRow(
    string Run,
    string Machine,
    string Site,
    string Plan,
    string Wave,
    string Method,
    string Status,
    string Phase,
    int PhaseNumber,
    string? Step,
    double? Share,
    string? Note,
    double ElapsedSeconds,
    double? LeftSeconds,
    double? OverSeconds,
    DateTimeOffset SlotStart,
    string? Parked,
    string? Outcome,
    string? Reason,
    DateTimeOffset? Verified,
    DateTimeOffset? Closed,
    int FollowUps,
    DateTimeOffset? Begins,
    NoContactView? NoContact
)
{
    /// <summary>How long the running step usually takes; null where none is running, or it waits.</summary>
    public required UsualView? Usual { get; init; }

    /// <summary>What it asks of a person now; null where it asks nothing.</summary>
    public AskedView? Asked { get; init; }

    /// <summary>What it has suspended on its machine and not resumed yet, such as <c>disk encryption</c>.</summary>
    public required IReadOnlyList<string> Suspended { get; init; }
}

/// <summary>How long a step usually takes on machines of the same model.</summary>
/// <param name="Seconds">Half of them end within this time.</param>
/// <param name="LongestSeconds">95 of 100 end within this time.</param>
/// <param name="Measured">From how many steps that was learnt; with none it is what the method says.</param>
public sealed record UsualView(double Seconds, double LongestSeconds, int Measured);

/// <summary>What a step of a run asks of a person.</summary>
/// <param name="Step">The step's name, by which it is answered.</param>
/// <param name="Words">What they are to do or to look at.</param>
/// <param name="Who">Who it is for.</param>
/// <param name="Since">Since when it waits.</param>
/// <param name="Due">By when the answer is needed; later the machine misses its slot, or the run is parked.</param>
public sealed record AskedView(string Step, string Words, string Who, DateTimeOffset Since, DateTimeOffset Due);

/// <summary>Contact to a machine that is lost while it has an order.</summary>
/// <param name="Since">When the machine was last heard of.</param>
/// <param name="Seconds">How long that has lasted.</param>
/// <param name="Why">What the last attempt to reach it ran into.</param>
public sealed record NoContactView(DateTimeOffset Since, double Seconds, string Why);

/// <summary>A run with its progress and log.</summary>
/// <param name="Possible">The decisions that can be taken now.</param>
/// <param name="RollbackBegins">When a rollback would begin, in the machine's next window; null where it cannot be rolled back or has no
/// such window.</param>
public sealed record RunView(
    RunRow Run,
    string Hop,
    long Epoch,
    int MissedSlots,
    bool Turned,
    IReadOnlyList<PhaseView> Phases,
    IReadOnlyList<StepView> Steps,
    IReadOnlyList<FollowUpView> FollowUps,
    IReadOnlyList<string> Possible,
    DateTimeOffset? RollbackBegins,
    IReadOnlyList<EventView> Log
)
{
    /// <summary>How what the machine has differs from what it had, the latest comparison of each step.</summary>
    public required IReadOnlyList<DifferencesView> Comparisons { get; init; }

    /// <summary>The second machine, which takes the machine's place; null where it is upgraded in place.</summary>
    public string? Successor { get; init; }

    /// <summary>Until when the verified upgrade can be rolled back; null where it cannot, or is not verified.</summary>
    public required DateTimeOffset? RollbackUntil { get; init; }

    /// <summary>Until when that can be extended; null where it cannot.</summary>
    public required DateTimeOffset? RollbackUntilAtMost { get; init; }

    /// <summary>How much space was freed when the rollback period was over, in bytes; null where no step said so.</summary>
    public required double? ReclaimedBytes { get; init; }

    /// <summary>What kind of reason it was rolled back for; null where nobody has said so.</summary>
    public required string? RollbackCategory { get; init; }
}

/// <summary>Files that a step saved of a machine, as one archive (tar, compressed by gzip).</summary>
/// <param name="Leg">The leg, from 1.</param>
/// <param name="Step">The step that saved them.</param>
/// <param name="At">When, UTC.</param>
/// <param name="Size">The archive's size in bytes.</param>
/// <param name="Sha256">The SHA-256 of the archive, in hexadecimal.</param>
public sealed record SavedFilesRow(int Leg, string Step, DateTimeOffset At, long Size, string Sha256);

/// <summary>What an order of a run has printed.</summary>
/// <param name="Order">The order, such as <c>r118/1/apply-image/1</c>.</param>
/// <param name="Leg">The leg, from 1.</param>
/// <param name="Step">The step's name.</param>
/// <param name="Title">What the step does.</param>
/// <param name="Attempt">Which attempt of it, from 1.</param>
/// <param name="At">When the first of it was fetched, UTC.</param>
/// <param name="Bytes">How much is kept.</param>
/// <param name="Cut">Whether it printed more than is kept.</param>
/// <param name="Running">Whether it may still print more.</param>
public sealed record OutputRow(
    string Order,
    int Leg,
    string Step,
    string Title,
    int Attempt,
    DateTimeOffset At,
    long Bytes,
    bool Cut,
    bool Running
);

/// <summary>Lines of what an order has printed.</summary>
/// <param name="Output">Whose they are.</param>
/// <param name="Lines">How many lines there are.</param>
/// <param name="Matching">How many have the text that was searched for; all of them where none was.</param>
/// <param name="Shown">The lines.</param>
public sealed record OutputView(OutputRow Output, int Lines, int Matching, IReadOnlyList<OutputLine> Shown);

/// <summary>A line of what an order has printed.</summary>
/// <param name="Number">Its number, from 1.</param>
/// <param name="Text">Its text, without control characters.</param>
public sealed record OutputLine(int Number, string Text);

/// <summary>How what a machine has differs from what was recorded.</summary>
/// <param name="Step">The step that compared.</param>
/// <param name="Title">Its title.</param>
/// <param name="At">When it compared.</param>
/// <param name="Failing">How many differences park the run.</param>
/// <param name="FollowUps">How many became follow-ups.</param>
/// <param name="Ignored">How many were to be expected, and are not listed.</param>
/// <param name="Differences">The others: at most 200 that park the run, then at most 200 that became follow-ups.</param>
public sealed record DifferencesView(
    string Step,
    string Title,
    DateTimeOffset At,
    int Failing,
    int FollowUps,
    int Ignored,
    IReadOnlyList<DifferenceView> Differences
);

/// <summary>Something that differs from what was recorded.</summary>
/// <param name="Kind">What it is, such as <c>package</c>, <c>service</c>, <c>device</c> or <c>file</c>.</param>
/// <param name="Name">Its name.</param>
/// <param name="Change"><c>missing</c>, <c>added</c> or <c>changed</c>.</param>
/// <param name="Before">Its version, state or hash before; null where it was not there.</param>
/// <param name="After">The same now; null where it is not there.</param>
/// <param name="Result"><c>fail</c> or <c>follow-up</c>.</param>
public sealed record DifferenceView(string Kind, string Name, string Change, string? Before, string? After, string Result);

/// <summary>A phase that a run went through.</summary>
public sealed record PhaseView(string Phase, DateTimeOffset From, DateTimeOffset? To);

/// <summary>A step of a run's method.</summary>
/// <param name="State"><c>to-come</c>, <c>running</c>, <c>done</c>, <c>failed</c>, or <c>not-done</c> where the run ends without
/// it.</param>
public sealed record StepView(
    string Name,
    string Title,
    string Phase,
    string State,
    int Attempts,
    bool PointOfNoReturn,
    double UsualSeconds
)
{
    /// <summary>The second machine, where the step is done there; null where it is done on the machine itself.</summary>
    public string? Machine { get; init; }
}

/// <summary>Keeps the rollback of a verified run for longer.</summary>
/// <param name="Until">The last day on which it is kept, by UTC.</param>
/// <param name="Reason">Why.</param>
public sealed record KeepRollbackCommand(DateOnly Until, string Reason);

/// <summary>Something left to do.</summary>
/// <param name="Name">Its name within the run.</param>
/// <param name="Title">What is left to do.</param>
/// <param name="Seen">What was seen; empty where a person added it.</param>
/// <param name="Fix">How it is done; empty where that is not known.</param>
/// <param name="Opened">Since when it is open.</param>
/// <param name="Closed">When it was closed; null while it is open.</param>
/// <param name="By">Who closed it; null while it is open.</param>
public sealed record FollowUpView(
    string Name,
    string Title,
    string Seen,
    string Fix,
    DateTimeOffset Opened,
    DateTimeOffset? Closed,
    string? By
)
{
    /// <summary>Who added it; null where the run found it itself.</summary>
    public required string? AddedBy { get; init; }

    /// <summary>Who is to do it; null for nobody yet.</summary>
    public required string? Owner { get; init; }

    /// <summary>The last day on which it is in time, by UTC; null for none.</summary>
    public required DateOnly? Due { get; init; }

    /// <summary>Whether it is open and its day is over.</summary>
    public required bool Overdue { get; init; }

    /// <summary>What was done when it was closed; null while it is open.</summary>
    public required string? Because { get; init; }

    /// <summary>Its script; null where it has none.</summary>
    public required FollowUpScript? Script { get; init; }
}

/// <summary>The script of a follow-up. When it has ended and the check is met, the follow-up is closed.</summary>
/// <param name="Name">Its file name.</param>
/// <param name="Restarts">Whether it restarts the machine, for which it waits for the machine's next window.</param>
/// <param name="Fix">The fix as which it was sent last, such as f12; null where it never was.</param>
/// <param name="Begins">When it was sent, or from when on it may begin; null where it was never sent.</param>
/// <param name="Ended">When it had ended; null while it runs or waits, and where it was never sent.</param>
/// <param name="Said">How it went, in words; empty before.</param>
public sealed record FollowUpScript(string Name, bool Restarts, string? Fix, DateTimeOffset? Begins, DateTimeOffset? Ended, string Said);

/// <summary>A follow-up with its run and machine.</summary>
public sealed record FollowUpRow(string Run, string Machine, string Site, string Plan, string Wave, string Status, FollowUpView FollowUp);

/// <summary>Adds a follow-up to a run.</summary>
/// <param name="Title">What is left to do, or what is wrong.</param>
/// <param name="Fix">How it is done; null where that is not known.</param>
/// <param name="Owner">Who is to do it; null for nobody yet.</param>
/// <param name="Due">The last day on which it is in time, by UTC; null for none.</param>
public sealed record AddFollowUpCommand(string Title, string? Fix = null, string? Owner = null, DateOnly? Due = null);

/// <summary>Which follow-up is meant.</summary>
/// <param name="Run">Its run, such as r118.</param>
/// <param name="Name">Its name within the run.</param>
public sealed record FollowUpName(string Run, string Name);

/// <summary>Closes follow-ups.</summary>
/// <param name="Of">Which, at most 1000.</param>
/// <param name="Reason">What was done.</param>
public sealed record CloseFollowUpsCommand(IReadOnlyList<FollowUpName> Of, string Reason);

/// <summary>Runs the scripts of follow-ups.</summary>
/// <param name="Of">Which, at most 1000.</param>
/// <param name="Reason">Why, for the audit.</param>
/// <param name="Now">Whether a script that restarts its machine runs at once; otherwise it runs in the machine's next window.</param>
public sealed record FixFollowUpsCommand(IReadOnlyList<FollowUpName> Of, string Reason, bool Now = false);

/// <summary>Says who is to do follow-ups, and by when.</summary>
/// <param name="Of">Which, at most 1000.</param>
/// <param name="Owner">Who is to do them, empty for nobody; null leaves it as it is.</param>
/// <param name="Due">The last day on which they are in time, by UTC; null leaves it as it is.</param>
public sealed record AssignFollowUpsCommand(IReadOnlyList<FollowUpName> Of, string? Owner = null, DateOnly? Due = null);

/// <summary>What came of a command about several things.</summary>
/// <param name="Done">For how many it was carried out.</param>
/// <param name="Refused">Why it was not for the others, in sentences.</param>
public sealed record BulkResult(int Done, IReadOnlyList<string> Refused);

/// <summary>What somebody reports about a machine after its upgrade.</summary>
/// <param name="Words">What is wrong, in their own words.</param>
public sealed record ReportCommand(string Words);

/// <summary>A line of a run's log.</summary>
public sealed record EventView(int Number, DateTimeOffset At, string Type, string Actor, string Text, string? Detail);

/// <summary>How a plan's machines ended or stand.</summary>
public sealed record OutcomesView(
    string Plan,
    int Machines,
    IReadOnlyDictionary<string, int> Tally,
    IReadOnlyDictionary<string, int> Outcomes,
    IReadOnlyDictionary<string, int> Exemptions,
    IReadOnlyList<MemberRow> Open
)
{
    /// <summary>The runs that were rolled back, newest first.</summary>
    public required IReadOnlyList<RollbackRow> Rollbacks { get; init; }

    /// <summary>How much space was freed on all machines whose rollback period is over, in bytes; null where no step said so.</summary>
    public required double? ReclaimedBytes { get; init; }
}

/// <summary>A run that was rolled back.</summary>
/// <param name="Run">The run, such as <c>r118</c>.</param>
/// <param name="Machine">The machine's name.</param>
/// <param name="Site">Its site.</param>
/// <param name="Closed">When it was rolled back, UTC.</param>
/// <param name="Reason">Why, in the words of the person who decided it.</param>
/// <param name="Category">What kind of reason that is; null where nobody has said so.</param>
public sealed record RollbackRow(string Run, string Machine, string Site, DateTimeOffset Closed, string Reason, string? Category);

/// <summary>Says what kind of reason runs were rolled back for.</summary>
/// <param name="Runs">The runs, such as <c>r118</c>.</param>
/// <param name="Category">The kind, in a few words of your own; runs with the same words are counted together.</param>
public sealed record CategoriseRollbacksCommand(IReadOnlyList<string> Runs, string Category);

/// <summary>The one page that everyone above wants.</summary>
/// <param name="Forecast">When it will be done, as a range, without sites and machines; null where it is not running, not made yet, or
/// about sites that the caller does not see.</param>
public sealed record OverviewView(
    PlanRow Plan,
    string Target,
    DateTimeOffset Now,
    double Pace,
    string? SupportEnds,
    ForecastView? Forecast,
    IReadOnlyList<WaveView> Waves,
    IReadOnlyList<StairPoint> Planned,
    IReadOnlyList<StairPoint> Actual,
    IReadOnlyList<InTheWayView> InTheWay,
    IReadOnlyList<RunRow> Running,
    int? RoomAll,
    IReadOnlyList<NextView> Next
);

/// <summary>How many machines were to be verified, or were, by a moment.</summary>
public sealed record StairPoint(DateTimeOffset At, int Verified);

/// <summary>Something that keeps machines from going.</summary>
/// <param name="Kind"><c>check</c>, <c>parked</c>, <c>asked</c>, <c>stopped</c>, <c>suspended</c>, <c>no-contact</c>,
/// <c>route</c>, <c>support-case</c> or <c>follow-up</c>.</param>
/// <param name="Machines">How many machines it keeps; of a check, on how many it is not met.</param>
/// <param name="Unknown">On how many more machines the check is unknown, since nothing or nothing new enough was read.</param>
/// <param name="Condition">What lists the machines: the name of the check, the status or the support case.</param>
/// <param name="By">Who can fix it; null where a decision is needed.</param>
public sealed record InTheWayView(
    string Kind,
    int Machines,
    string Title,
    string Detail,
    string? By,
    double? Minutes,
    string Condition,
    int Opens,
    int Unknown = 0
);

/// <summary>Slots to come.</summary>
public sealed record NextView(DateTimeOffset From, DateTimeOffset To, string Site, int Machines, int Staged);

/// <summary>A change, as live events report it.</summary>
public sealed record ChangeView(long Position, DateTimeOffset At, string Kind, string Subject, string Type, string Actor);
