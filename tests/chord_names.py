"""Voicings and what they are called, written down by hand: notes, then the name.

Behind ``or`` stand readings that have to be offered beside it. Keys in square brackets spell what
follows. Nothing here was taken from what the program says.
"""

TABLE = """
[C major]
C3 E3 G3 = C
C3 Eb3 G3 = Cm
C3 E3 G#3 = C+
C3 Eb3 F#3 = C°
E3 G3 C4 = C/E
G2 C3 E3 = C/G
D3 F3 A3 = Dm
F3 A3 D4 = Dm/F
A2 D3 F3 = Dm/A
B2 D3 F3 = B°
D3 F3 B3 = B°/D
G3 B3 D4 F4 = G7
B2 D3 F3 G3 = G7/B
D3 F3 G3 B3 = G7/D
F2 G3 B3 D4 = G7/F
C3 E3 G3 B3 = Cmaj7
E3 G3 B3 C4 = Cmaj7/E
G2 B2 C3 E3 = Cmaj7/G
B2 C3 E3 G3 = Cmaj7/B
D3 F3 A3 C4 = Dm7 or F6/D
A2 C3 E3 G3 = Am7 or C6/A
C3 E3 G3 A3 = C6 or Am7/C
F3 A3 C4 D4 = F6 or Dm7/F
B2 D3 F3 A3 = Bm7b5 or Dm6/B
D3 F3 A3 B3 = Dm6 or Bm7b5/D
E3 G3 A3 C4 = Am7/E or C6/E
C3 F3 G3 = Csus4 or Fsus2/C
C3 D3 G3 = Csus2 or Gsus4/C
G3 C4 D4 = Gsus4 or Csus2/G
G3 C4 D4 F4 = G7sus4
G2 F3 A3 C4 D4 = G9sus4
C3 G3 = C5
C3 G3 C4 = C5
C3 E3 G3 D4 = Cadd9
D3 F3 A3 E4 = Dm(add9)
C3 E3 G3 A3 D4 = C6/9
D3 F3 A3 C4 E4 = Dm9
G2 B2 D3 F3 A3 = G9
C3 E3 G3 B3 D4 = Cmaj9
A2 C3 E3 G3 B3 D4 = Am11
D3 F3 A3 C4 E4 G4 = Dm11
G2 F3 B3 E4 = G7(add13, no 5)
G2 B2 D3 F3 A3 E4 = G13
C3 E3 G3 B3 D4 A4 = Cmaj13
C3 E3 G3 B3 F#4 = Cmaj7#11
C3 E3 G3 B3 D4 F#4 = Cmaj9#11
F2 A2 C3 E3 B3 = Fmaj7#11
G2 B2 D3 F3 Ab3 = G7b9
G2 B2 D3 F3 A#3 = G7#9
G2 B2 F3 Ab3 D4 = G7b9
G2 B2 D3 F3 Eb4 = G7b13
G2 B2 D3 F3 C#4 = G7#11
G2 B2 F3 = G7(no 5)
G2 D3 F3 = G7(no 3)
D3 F3 C4 = Dm7(no 5)
D3 F3 C4 E4 = Dm9(no 5)
C3 E3 B3 = Cmaj7(no 5)
C3 E3 B3 D4 = Cmaj9(no 5)
A2 E3 B3 C4 = Am(add9)
F3 G3 A3 C4 = Fadd9
C3 E3 G3 F4 = Cadd11
C2 D3 F#3 A3 = D7/C
F2 G3 B3 D4 A4 = G9/F
D2 C3 E3 G3 = C/D or D9sus4(no 5)
F2 G2 B2 D3 = G7/F
A2 F3 A3 C4 = F/A
[A minor]
A2 C3 E3 G#3 = Am(maj7)
A2 C3 E3 F#3 = Am6 or F#m7b5/A
E3 G#3 B3 D4 = E7
G#2 B2 D3 F3 = G#°7
E2 G#2 D3 F3 = E7b9(no 5)
B2 D3 F3 A3 C4 = Bm7b5b9
A2 E3 G3 = A7(no 3)
A2 C3 E3 G3 B3 = Am9
E3 A3 B3 = Esus4 or Asus2/E
G2 A3 C4 E4 = Am7/G
F#2 A3 C4 E4 = F#m7b5 or Am6/F#
F2 A3 C4 E4 = Fmaj7
C3 E3 G#3 B3 = Cmaj7#5
D3 F#3 A3 = D
Bb2 D3 F3 = Bb
Bb2 D3 F3 A3 = Bbmaj7
Eb3 G3 Bb3 = Eb
[F# minor]
F#2 A2 C#3 = F#m
C#3 F#3 A3 = F#m/C#
A2 C#3 F#3 = F#m/A
D3 F#3 A3 C#4 = Dmaj7
B2 D3 F#3 A3 = Bm7 or D6/B
C#3 E#3 G#3 B3 = C#7
C#3 E3 G#3 = C#m
G3 B3 D4 = G
G#2 B2 D3 = G#°
G#2 B2 D3 F#3 = G#m7b5 or Bm6/G#
F#3 G#3 C#4 = F#sus2 or C#sus4/F#
F#2 A2 C#3 G#3 = F#m(add9)
F#2 A2 C#3 E3 G#3 = F#m9
E2 G#2 B2 D3 F#3 = E9
E#2 G#2 B2 D3 = E#°7
A2 C#3 E3 G#3 = Amaj7
F#2 C#3 = F#5
D2 A2 E3 F#3 C#4 = Dmaj9
F#2 E3 A3 B3 C#4 = F#m7(add11)
B2 C#3 D3 F#3 A3 = Bm9
C#3 F#3 G#3 B3 = C#7sus4
F#2 A2 C#3 E#3 = F#m(maj7)
D2 F#2 A2 C#3 G#3 = Dmaj7#11
E2 F#3 A3 C#4 = F#m7/E
D#3 F#3 A3 C#4 = D#m7b5 or F#m6/D#
[C# minor]
C#3 E3 G#3 = C#m
C#3 E3 G#3 B3 = C#m7 or E6/C#
A2 C#3 E3 G#3 = Amaj7
G#2 B#2 D#3 F#3 = G#7
D3 F#3 A3 = D
D#3 F#3 A3 = D#°
B2 D#3 F#3 A3 = B7
F#3 A3 C#4 E4 = F#m7 or A6/F#
C#3 E3 G#3 D#4 = C#m(add9)
E3 G#3 B3 D#4 = Emaj7
G#2 B2 D#3 F#3 A#3 = G#m9
B#2 D#3 F#3 A3 = B#°7
[Db major]
Db3 F3 Ab3 = Db
F2 Db3 Ab3 = Db/F
Db3 F3 Ab3 C4 = Dbmaj7
Eb3 Gb3 Bb3 Db4 = Ebm7 or Gb6/Eb
Gb3 Bb3 Db4 = Gb
Gb2 Bb2 Db3 F3 C4 = Gbmaj7#11
Ab2 C3 Eb3 Gb3 = Ab7
Ab2 C3 Gb3 Bb3 F4 = Ab13(no 5)
Bb2 Db3 F3 Ab3 = Bbm7 or Db6/Bb
C3 Eb3 Gb3 Bb3 = Cm7b5 or Ebm6/C
Db3 Eb3 Ab3 = Dbsus2 or Absus4/Db
Ab2 Db3 Eb3 Gb3 = Ab7sus4
[Eb major]
Eb3 G3 Bb3 = Eb
Eb3 G3 Bb3 D4 F4 = Ebmaj9
Bb2 D3 F3 Ab3 = Bb7
Bb2 D3 Ab3 B3 = Bb7b9(no 5)
Bb2 D3 F3 Ab3 E4 = Bb7#11
Bb2 D3 Ab3 C#4 = Bb7#9(no 5)
C3 Eb3 G3 Bb3 D4 = Cm9
F3 Ab3 C4 Eb4 G4 = Fm9
Ab2 C3 Eb3 G3 = Abmaj7
Ab2 C3 Eb3 F3 Bb3 = Ab6/9
G2 Bb2 D3 F3 = Gm7 or Bb6/G
D3 F3 Ab3 C4 = Dm7b5 or Fm6/D
D3 F3 Ab3 = D°
Eb3 Ab3 Bb3 = Ebsus4 or Absus2/Eb
G2 Eb3 Bb3 = Eb/G
Db3 F3 Ab3 = Db
[B major]
B2 D#3 F#3 = B
B2 D#3 F#3 A#3 = Bmaj7
D#3 F#3 B3 = B/D#
E3 G#3 B3 D#4 = Emaj7
F#3 A#3 C#4 E4 = F#7
G#3 B3 D#4 F#4 = G#m7 or B6/G#
C#3 E3 G#3 B3 D#4 = C#m9
A#2 C#3 E3 G#3 = A#m7b5 or C#m6/A#
D#3 F#3 A#3 = D#m
D#3 F#3 A#3 C#4 F4 = D#m9
F#2 A#2 E3 G#3 D#4 = F#13(no 5)
C#3 E#3 G#3 B3 D4 = C#7b9
E#2 C#3 G#3 B3 = C#7/E#
F#2 B2 C#3 E3 G#3 = F#9sus4
E3 G#3 B3 F#4 = Eadd9
[F major]
F3 A3 C4 E4 G4 = Fmaj9
Bb2 D3 F3 A3 C4 = Bbmaj9
Bb2 D3 F3 A3 E4 = Bbmaj7#11
C3 E3 G3 Bb3 A4 = C7(add13)
C3 F3 G3 Bb3 D4 A4 = C13sus4
G2 Bb2 D3 F3 A3 C4 = Gm11
A2 C3 E3 G3 Bb3 = Am7b9
D3 F3 A3 G4 = Dm(add11)
E3 G3 Bb3 D4 = Em7b5 or Gm6/E
C2 F3 A3 C4 = F/C
C3 E3 Bb3 = C7(no 5)
Bb2 F3 = Bb5
[D dorian]
D3 F3 A3 C4 E4 B4 = Dm13
G3 B3 D4 F4 = G7
E3 G3 B3 D4 = Em7 or G6/E
D2 C3 F3 A3 = Dm7 or F6/D
Eb3 G3 Bb3 D4 = Ebmaj7
Ab2 C3 Eb3 Gb3 = Ab7
C#3 E3 G3 Bb3 = C#°7
[G major]
G3 A3 B3 D4 = Gadd9
E3 G3 B3 D4 F#4 = Em9
D3 F#3 A3 C4 B4 = D7(add13)
B2 G3 B3 D4 = G/B
C3 E3 G3 B3 F#4 A4 = Cmaj7#11(add13)
D2 G3 B3 D4 = G/D
F#3 A3 C4 E4 = F#m7b5 or Am6/F#
A2 C3 E3 G3 F#4 = Am7(add13)
Eb3 G3 B3 = Eb+
C3 E3 G3 Bb3 D4 A4 = C13
D3 F#3 A3 C4 E4 B4 = D13
A2 C3 E3 G3 B3 F#4 = Am13
[E minor]
Eb3 G3 Bb3 = Eb
D#3 F#3 A3 C4 = D#°7
D#3 F#3 B3 = B/D#
"""


def rows():
    """Return (key, notes, name, readings that must be offered)."""
    found, key = [], ""
    for line in TABLE.strip().splitlines():
        if line.startswith("["):
            key = line.strip("[]")
            continue
        notes, names = line.split(" = ")
        name, *others = names.split(" or ")
        found.append((key, notes, name, tuple(others)))
    return found
