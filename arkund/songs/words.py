"""The words of the application, and where its figures come from, for the help page."""

WORDS = (
    (
        "song",
        "one tune's drum recording: its takes, mics, tempo map, sections, settings and prints",
    ),
    ("take", "one pass through the song, one audio file a mic"),
    ("mic", "a microphone's lane: its role, the drum it points at, its side"),
    ("piece", "a drum or cymbal: kick, snare, tom 1, floor tom, hat, ride, crash"),
    (
        "hit",
        "one hit on a piece, with its time, velocity and kind: accent, plain, ghost, flam, roll",
    ),
    ("bleed", "what a mic hears of pieces that are not its own"),
    ("bed", "the rest of the song; for listening and comparison only"),
    ("reference", "a finished mix to compare with; never in the mix"),
    ("sheet", "all settings of a song, one document"),
    ("revision", "a sheet that was kept, with what changed, when and why"),
    ("snapshot", "a revision under a name of yours"),
    ("finding", "something that was measured, with what would help, why, and how sure that is"),
    ("mixing style", "a family of defaults: Tight, Natural, Open, or your own"),
    ("first pass", "a mixing style's findings, applied in order, each one its own revision"),
    (
        "punch card",
        "what the mix gained over the recording, drum by drum, at equal loudness and equal peak",
    ),
    ("station", "one stage of the work, from Load-in to Print"),
    ("layer", "a sample or a sub tone under a drum, or instead of it"),
    ("difference", "a value that is otherwise in some bars"),
    ("scene", "several differences under one name"),
    ("print", "stems, mix, hits and reports, written to files"),
)

SOURCES = (
    (
        "loudness, LU and LUFS",
        "ITU-R BS.1770-4: K-weighting, 400 ms blocks, gates at −70 LUFS and −10 LU",
    ),
    ("true peak", "ITU-R BS.1770-4, annex 2: four times oversampled"),
    ("full scale", "0 dBFS is the largest sample; levels of sines are given as peaks"),
    (
        "attack over body",
        "RMS from 1 ms before to 10 ms after a hit, over RMS from 30 to 120 ms after it, in the mix",
    ),
    ("low end", "level between 35 and 120 Hz in a hit's first 50 ms"),
    (
        "reduction of a compressor",
        "static curve by threshold, ratio and knee; attack and release to 63 % of the step",
    ),
    (
        "filters and bands",
        "second-order sections by the bilinear transform, matched where it bends",
    ),
    ("notes", "equal temperament at A = 440 Hz"),
    ("distance from delay", "343.2 m/s, air at 20 °C"),
    ("exposure", "85 dBA for 8 hours a day, half the time for every 3 dB more (NIOSH, ISO 1999)"),
)
