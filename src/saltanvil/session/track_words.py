"""Words by which tracks are known to belong together, in the names of files. Common practice, no source."""

#: The groups in the order in which they are tried ("bass drum" is a drum, "bass guitar" a bass), and their words.
GROUPS: dict[str, tuple[str, ...]] = {
    "Drums": (
        "kick", "kik", "bd", "bass drum", "snare", "sn", "sd", "tom", "floor tom", "rack tom", "hat", "hh", "hihat", "hi-hat",
        "overhead", "oh", "cymbal", "ride", "crash", "drum", "kit", "perc", "percussion", "shaker", "tambourine", "tamb", "clap",
        "cowbell", "conga", "bongo", "cajon", "rim", "stick",
    ),
    "Bass": ("bass", "sub", "low end", "contrabass", "double bass"),
    "Guitars": (
        "guitar", "gtr", "git", "gitarre", "acoustic", "strum", "riff", "banjo", "ukulele", "mandolin", "lap steel", "slide",
    ),
    "Keys": ("keys", "key", "keyboard", "piano", "pno", "organ", "synth", "pad", "clav", "arp", "strings", "harmonium"),
    "Voices": (
        "voice", "vox", "vocal", "voc", "lead voice", "bv", "bgv", "backing", "choir", "chorus voice", "harmony", "narrator",
        "speech", "dialog", "dialogue", "singer", "ad lib", "adlib", "shout",
    ),
    "Effects": ("fx", "effect", "sfx", "reverb", "verb", "echo", "delay", "riser", "sweep", "noise", "ambience", "atmos"),
}  # fmt: skip
#: Words that tell only where nothing else does: a voice has a room too.
WEAK: dict[str, tuple[str, ...]] = {"Drums": ("room", "loop", "top", "mono room")}
