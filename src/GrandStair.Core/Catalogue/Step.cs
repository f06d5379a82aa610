using System.Collections.Immutable;

namespace GrandStair.Core.Catalogue;

/// <summary>Where a run is.</summary>
public enum Phase
{
    /// <summary>The checks are evaluated.</summary>
    Gate,

    /// <summary>What is needed is put in place.</summary>
    Stage,

    /// <summary>The machine's time has not come yet.</summary>
    Wait,

    /// <summary>What protects the machine is done: saved, patched, suspended.</summary>
    Protect,

    /// <summary>The upgrade itself.</summary>
    Apply,

    /// <summary>It is looked at whether the target runs.</summary>
    Verify,

    /// <summary>The upgrade is undone.</summary>
    RollBack,

    /// <summary>The run ends or misses its slot, and what it has suspended is switched on again first.</summary>
    Resume,

    /// <summary>Follow-ups are closed, and the rollback period runs.</summary>
    Settle,

    /// <summary>The rollback period is over: what was kept for the rollback is deleted.</summary>
    Reclaim,

    /// <summary>The run has its outcome.</summary>
    Closed,
}

/// <summary>What kind of action a step is.</summary>
public enum StepKind
{
    /// <summary>A script that runs on the machine by itself, with or without a connection.</summary>
    Script,

    /// <summary>The machine restarts; done when it has a new boot id.</summary>
    Restart,

    /// <summary>Nothing is done on the machine: it is read again and again until a condition holds.</summary>
    WaitUntil,

    /// <summary>A person does something or looks at something, and answers.</summary>
    AskPerson,

    /// <summary>What the machine has is listed by a script and kept by the service. Nothing is done on the machine.</summary>
    Record,

    /// <summary>What the machine has is listed again and compared with what an earlier step recorded.</summary>
    Compare,

    /// <summary>Media is fetched to the machine, and its checksum compared there before it counts.</summary>
    FetchMedia,

    /// <summary>Media that earlier upgrades left on the machine is removed; what this run needs stays.</summary>
    CleanUp,

    /// <summary>Files of the machine are saved with the service, and read back to show that they are what they should be.</summary>
    SaveFiles,

    /// <summary>Files that an earlier step saved are put back.</summary>
    RestoreFiles,

    /// <summary>A script that runs again and again, with a restart in between where the step says so, until a condition holds.</summary>
    Patch,

    /// <summary>A script that suspends something that would be in the way, such as disk encryption.</summary>
    Suspend,

    /// <summary>A script that resumes what an earlier step suspended. It runs however the run ends.</summary>
    Resume,
}

/// <summary>What a step asks a person for.</summary>
/// <param name="Words">What they are to do or to look at, and when the answer is yes.</param>
/// <param name="Who">Who it is for, such as a crew, <c>owner</c> or <c>service desk</c>. Whoever may decide about runs can answer.</param>
public sealed record PersonTask(string Words, string Who);

/// <summary>One action within a phase, as the method says it.</summary>
/// <param name="Name">The step's name within its method.</param>
/// <param name="Title">What it does, for people.</param>
/// <param name="Phase">The phase that it belongs to.</param>
/// <param name="Kind">What kind of action it is.</param>
/// <param name="Script">The file name of the script that it runs, or that lists what the machine has; null for every other kind.</param>
/// <param name="Typical">How long it usually takes.</param>
/// <param name="Limit">How long it may take before a person is asked; for a step that patches, each of its scripts and restarts.</param>
/// <param name="Attempts">How often it is tried before a person is asked, at least 1.</param>
/// <param name="PointOfNoReturn">Whether one can only go forward once it has begun.</param>
public sealed record StepSpec(
    string Name,
    string Title,
    Phase Phase,
    StepKind Kind,
    string? Script,
    TimeSpan Typical,
    TimeSpan Limit,
    int Attempts = 1,
    bool PointOfNoReturn = false
)
{
    /// <summary>Whether it is done on the second machine of a method that goes side by side.</summary>
    public bool OnSuccessor { get; init; }

    /// <summary>The names of the secrets that its script needs.</summary>
    public ImmutableArray<string> Secrets { get; init; } = [];

    /// <summary>The keys that it makes true. A check on one of them is not asked before the step is done.</summary>
    public ImmutableArray<string> Provides { get; init; } = [];

    /// <summary>
    /// For a step that suspends something: the later step of its method that resumes it. That one is run however the run ends. Null for
    /// every other kind.
    /// </summary>
    public string? ResumedBy { get; init; }

    /// <summary>What a step suspends, in words, such as <c>disk encryption</c>; null for every other kind.</summary>
    public string? Suspends { get; init; }

    /// <summary>The condition that a step waits for, or until which it patches; null for every other kind.</summary>
    public string? Until { get; init; }

    /// <summary>How long after one reading a step that waits reads the machine again; null for every other kind.</summary>
    public TimeSpan? Every { get; init; }

    /// <summary>How often a step that patches runs its script before a person is asked, at least 1; 0 for every other kind.</summary>
    public int Rounds { get; init; }

    /// <summary>Whether the machine is restarted after each script of a step that patches; false for every other kind.</summary>
    public bool Restarts { get; init; }

    /// <summary>What a person is asked for; null for every other kind.</summary>
    public PersonTask? Task { get; init; }

    /// <summary>
    /// The earlier step of its method that a step refers to: for one that compares the one that recorded, for one that restores files the
    /// one that saved them. Null for every other kind.
    /// </summary>
    public string? With { get; init; }

    /// <summary>For a step that compares: what differences lead to.</summary>
    public ImmutableArray<ComparisonRule> Rules { get; init; } = [];

    /// <summary>For a step that fetches media: the name of the media in its product. Null for every other kind.</summary>
    public string? Media { get; init; }

    /// <summary>For a step that saves files: their absolute paths; in the last part of one, <c>*</c> stands for any text.</summary>
    public ImmutableArray<string> Files { get; init; } = [];

    /// <summary>Whether it reads the machine through a script of its own, and changes nothing there.</summary>
    public bool IsReading => Kind is StepKind.Record or StepKind.Compare;

    /// <summary>Whether it only waits, for the machine or for a person, and can be left at any time.</summary>
    public bool IsWaiting => Kind is StepKind.WaitUntil or StepKind.AskPerson;

    /// <summary>Whether it changes the machine by a script of the catalogue.</summary>
    public bool RunsScript => Kind is StepKind.Script or StepKind.Patch or StepKind.Suspend or StepKind.Resume;

    /// <summary>Whether it brings something to the machine over its site's uplink.</summary>
    public bool UsesUplink => Phase == Phase.Stage && Kind is (StepKind.Script or StepKind.FetchMedia);
}
