"""Roles from file names, in six habits of naming."""

import itertools

import pytest

from arkund.core.kit.naming import guess_role, guess_roles, words_of
from arkund.core.kit.roles import number_mics, parse_mic_name

WORDS = {
    "kick_in": ["Kick In", "Kick Inside", "BD In", "Kik In", "Kick", "Bass Drum In"],
    "kick_out": ["Kick Out", "Kick Outside", "BD Out", "Kik Out", "Kick Front"],
    "kick_sub": ["Sub Kick", "Kick Sub"],
    "snare_top": ["Snare Top", "SN Top", "Snr Top", "SD Top", "Snare"],
    "snare_bottom": ["Snare Bottom", "Snare Btm", "SN Bot", "Snr Bottom", "Snare Under"],
    "hat": ["HH", "Hat", "Hi Hat", "HiHat"],
    "ride": ["Ride"],
    "tom": ["Rack Tom", "Floor Tom", "Tom 1", "Tom 2", "Rack 1", "Floor"],
    "overhead": ["OH L", "OH R", "Overhead L", "Overhead R", "Over Left", "OH Right"],
    "room": ["Room L", "Room R", "Rm L", "Amb R", "Room"],
    "crush": ["Talkback", "Crush"],
    "click": ["Click"],
}
HABITS = {
    "spaces": lambda w, n: f"{w}.wav",
    "numbered": lambda w, n: f"{n:02d} {w}.wav",
    "underscores": lambda w, n: f"{n:02d}_{w.replace(' ', '_')}.wav",
    "joined": lambda w, n: "".join(p.capitalize() for p in w.split()) + ".flac",
    "shouted": lambda w, n: w.upper().replace(" ", "-") + ".WAV",
    "with take": lambda w, n: f"{w.lower()}_T2.aif",
}
NAMES = [
    (habit(word, n), role)
    for (role, words), habit in itertools.product(WORDS.items(), HABITS.values())
    for n, word in enumerate(words, 1)
]


def test_nineteen_of_twenty_names_are_read() -> None:
    wrong = [
        (name, role, guess_role(name).mic.role)
        for name, role in NAMES
        if guess_role(name).mic.role != role
    ]
    assert len(NAMES) >= 280
    assert len(wrong) <= 0.05 * len(NAMES), wrong


def test_a_name_that_says_nothing_is_said_to() -> None:
    guess = guess_role("Audio 7.wav")
    assert guess.mic.role == "other"
    assert guess.confidence == 0


def test_toms_are_numbered_from_high_to_low() -> None:
    files = ["Floor.wav", "Rack 2.wav", "Rack 1.wav"]
    assert [str(g.mic) for g in guess_roles(files)] == ["tom_3", "tom_2", "tom_1"]


def test_two_bare_overheads_become_a_pair() -> None:
    assert [str(g.mic) for g in guess_roles(["OH 1.wav", "OH 2.wav"])] == [
        "overhead_l",
        "overhead_r",
    ]


def test_guesses_of_one_take_are_unique() -> None:
    mics = [str(g.mic) for g in guess_roles(["Snare.wav", "Snare 2.wav", "Kick.wav", "BD.wav"])]
    assert len(set(mics)) == 4


def test_words_are_parted_at_case_and_digits() -> None:
    assert words_of("03_KickIn-T2.wav") == "03 kick in"


@pytest.mark.parametrize("text", ["kick_in", "tom_3", "overhead_l", "overhead_2_r", "crush"])
def test_mic_names_round_trip(text: str) -> None:
    assert str(parse_mic_name(text)) == text


def test_an_unknown_role_is_refused() -> None:
    with pytest.raises(ValueError, match="not a role"):
        parse_mic_name("trumpet")


def test_numbering_keeps_the_first() -> None:
    twins = [parse_mic_name("hat"), parse_mic_name("hat")]
    assert [str(m) for m in number_mics(twins)] == ["hat", "hat_2"]
