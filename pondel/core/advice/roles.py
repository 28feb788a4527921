"""Guessing a part's role from its name as people write it, or from its sound.

    guess_role("Kck mic2")          # "kick"
    guess_role("BV high L")         # "backing voice"
    guess_role("Take 4")            # "other": the name says nothing

A name is taken apart into words: at spaces, signs and digits, and where a small letter meets a capital.
Whole words count, never what stands within one, in English, German, French, Spanish, Italian and
Portuguese; some only say something beside others, such as the two words of a bass drum.
"""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass
from itertools import pairwise

from pondel.core.document import Role

_MIC = "in out inside outside sub mic mike beater front port top"
_VOICE = """
    voc vocs vox vx voice voices vocal vocals voz voces voix stimme stimmen gesang chant canto vocale
    vocali vocais cantor cantora sing singer singers
"""


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


VOICE = _words(_VOICE)


@dataclass(frozen=True)
class Rule:
    """A role, where one of `any_of` is there, and one of `beside` if that asks for some."""

    role: Role
    any_of: frozenset[str]
    beside: frozenset[str] = frozenset()


def _rule(role: Role, any_of: str, beside: str = "") -> Rule:
    return Rule(role, _words(any_of), _words(beside))


RULES: tuple[Rule, ...] = (
    _rule(
        "effect",
        """fx sfx efx effect effects effekt effekte effet effets efecto efectos effetto efeito""",
    ),
    _rule("effect", "echo echoes delay delays dly dlys reverb reverbs verb rvb rev plate slapback"),
    _rule("effect", "throw throws vinyl crackle hiss tape foley amb"),
    _rule("effect", "sweep sweeps riser risers downlifter uplifter impact whoosh noise braam stinger"),
    _rule("pad", "pad pads"),
    _rule(
        "backing voice",
        """bv bvs bgv bgvs bvox bvx bkg backing backings background choir chor coro coros""",
    ),
    _rule("backing voice", "choeur choeurs chorale gang crowd ooh oohs aah aahs"),
    _rule("backing voice", "harmony harmonies harm chorus back backs", _VOICE),
    _rule("voice", "lv ldv leadvox leadvocal"),
    _rule("voice", "lead ld main solo leader", "v"),
    _rule("voice", _VOICE + " rap rapper rappers adlib adlibs speech spoken narration sprecher"),
    _rule(
        "kick",
        """kick kicks kik kck kic kickdrum kd bd bdr bdrum bassdrum grosstrommel bombo bumbo
        surdo grancassa""",
    ),
    _rule("kick", "bass bas gran grosse grande", "drum drums trommel caisse cassa"),
    _rule("kick", "k", _MIC),
    _rule(
        "snare",
        """snare snares snr snar sn sd sna sidedrum rimshot sidestick crossstick xstick
        clap claps rullante caixa tarola caja""",
    ),
    _rule("snare", "side kleine caisse", "drum trommel claire"),
    _rule("hats", "hat hats hh hihat hihats hihat highhat charley charleston openhat closedhat"),
    _rule("hats", "hi", "hat hats"),
    # Woodwinds carry a melody, the low ones among them too; a solo does, whatever plays it.
    _rule(
        "lead",
        """clarinet clarinets klarinette clarinette clarinete clarinetto bassoon fagott fagotto""",
    ),
    _rule("lead", "oboe oboes flute flutes flote querflote flauta flauto recorder piccolo"),
    _rule("lead", "lead leads ld solo solos"),
    _rule("brass", "trombone trombones posaune posaunen trb tbn sax saxes saxophone saxophon saxofon"),
    _rule(
        "bass",
        """bass bas bs bss basse basses basso bajo baixo ebass subbass sub 808 808s tuba kontrabass""",
    ),
    _rule("bass", "contrabass contrebasse contrabajo contrabasso contrabaixo doublebass"),
    _rule(
        "keys",
        """piano pno pianoforte klavier pf keys keyboard keyboards ep rhodes wurli wurlitzer organ""",
    ),
    _rule("keys", "org orgel orgue organo orgao hammond b3 clav clavinet harpsichord cembalo marimba"),
    _rule(
        "keys",
        """vibraphone vibes vibrafon xylophone xylo glock glockenspiel celesta celeste teclado""",
    ),
    _rule("keys", "teclados tastiera clavier claviers toy musicbox"),
    _rule("bass", "upright"),
    _rule("guitar", "guitar guitars gtr gtrs guit git gits gitarre gitarren guitare guitares guitarra"),
    _rule(
        "guitar",
        """guitarras chitarra chitarre egtr egtrs agtr agtrs acgtr elgtr egit agit violao banjo""",
    ),
    _rule("guitar", "mandolin mandoline ukulele uke dobro cavaquinho charango bouzouki"),
    _rule(
        "brass",
        """brass horn horns tpt tpts trp trumpet trumpets trompete trompeten trompette trompeta""",
    ),
    _rule("brass", "trompetas tromba trombe flugel flugelhorn corno cornet blaser blech metales"),
    _rule("brass", "cuivres fiati metais ottoni"),
    _rule(
        "strings",
        """strings string strs stgs strgs stg violin violins vln vlns violine violinen
        geige geigen violon violons""",
    ),
    _rule(
        "strings",
        """violino violini violinos viola violas vla vlas bratsche cello celli cellos vc vlc""",
    ),
    _rule("strings", "violoncello violoncelle fiddle streicher cordes cuerdas archi cordas chelo"),
    _rule("percussion", "perc percs percussion percussions perkussion percusion percussioni percussao"),
    _rule(
        "percussion",
        """tamb tambo tambourine shaker shakers shkr shk conga congas bongo bongos cowbell""",
    ),
    _rule(
        "percussion",
        """cymbal cymbals cym cyms ride crash china splash tom toms floortom ft overhead""",
    ),
    _rule(
        "percussion",
        """overheads oh ohs ovh room rooms rm drum drums drm drms kit schlagzeug batterie""",
    ),
    _rule(
        "percussion",
        """bateria batteria becken platillos piatti pratos triangle woodblock djembe cajon""",
    ),
    _rule(
        "percussion",
        """timbale timbales timpani pauken maracas guiro pandeiro pandereta schellen clave""",
    ),
    _rule("percussion", "claves caxixi agogo cabasa castanets loop loops beat beats groove"),
    _rule(
        "pad",
        """pad pads accordion akkordeon accordeon acordeon acordeao fisarmonica drone drones
        ambient""",
    ),
    _rule("pad", "ambience ambiance atmos atmo texture textures flachen nappe nappes"),
    _rule("lead", "melody melodie melodia harmonica whistle arp pluck leadsynth"),
    _rule("keys", "synth synths syn key"),
)


def words_of(name: str) -> list[str]:
    """The words of a name, in small letters and without accents."""
    apart = re.sub(r"(?<=[a-zà-öø-ÿ])(?=[A-ZÀ-ÖØ-Þ])", " ", name)
    plain = unicodedata.normalize("NFKD", apart.replace("œ", "oe").replace("ß", "ss"))
    plain = "".join(c for c in plain if not unicodedata.combining(c)).lower()
    return re.findall(r"808s?|b3(?![0-9])|[a-z]+|[0-9]+", plain)


def guess_role(name: str) -> Role:
    """The role a name suggests; "other" when it suggests none."""
    found = words_of(name)
    words, pairs = set(found), {a + b for a, b in pairwise(found)}
    for rule in RULES:
        if (words | pairs) & rule.any_of and (not rule.beside or words & rule.beside):
            return rule.role
    return "other"


LOW_HZ, BASS_HZ, HIGH_HZ = 160.0, 400.0, 2500.0
SHARP_DB, STEADY_DB = 14.0, 9.0
OFTEN_S = 0.5


@dataclass(frozen=True)
class PartHeard:
    """What was measured of a part whose name says nothing.

    Nine tenths of its energy lie from `low_hz` to `high_hz`; `hits_s` is how many hits it has a second,
    `crest_db` its peak over its RMS, `pitch_hz` the usual pitch where that is certain.
    """

    low_hz: float
    high_hz: float
    hits_s: float
    crest_db: float
    pitch_hz: float | None


def role_by_sound(heard: PartHeard) -> Role:
    """A guess, no more: only where home, hits and crest leave little doubt, else "other"."""
    is_sharp = heard.crest_db >= SHARP_DB
    if heard.high_hz < LOW_HZ and is_sharp and heard.hits_s >= OFTEN_S:
        return "kick"
    if heard.high_hz < BASS_HZ:
        return "bass"
    if heard.low_hz > HIGH_HZ and is_sharp and heard.hits_s >= 2 * OFTEN_S:
        return "hats"
    if is_sharp and heard.pitch_hz is None and heard.hits_s >= OFTEN_S:
        return "percussion"
    if heard.crest_db < STEADY_DB and heard.hits_s < OFTEN_S:
        return "pad"
    return "other"
