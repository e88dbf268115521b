//! The steps of the example, in the order of work.

/// One step of the example.
pub(super) struct Step {
    pub(super) heading: &'static str,
    pub(super) text: &'static str,
    /// What follows `tonemap`.
    pub(super) arguments: &'static str,
    pub(super) figure: Option<&'static str>,
    pub(super) files: &'static [&'static str],
}

pub(super) const TITLE: &str = "Alder Hall, first day";

pub(super) const INTRODUCTION: &str = "The village hall is being readied for recitals, and the workshop next \
    door brings its instruments. Two harp strings were recorded, a long tone of a wooden flute, \
    and a hand \
    bell as it was tuned on the lathe, cut by cut; two takes went wrong. Below is every command \
    that \
    was run on them, with what it printed and drew.";

pub(super) const STEPS: &[Step] = &[
    Step {
        heading: "Can the recordings be trusted?",
        text: "Always the first question. The harp is sound; of damaged.wav the first channel was \
               recorded \
               too loud through a faulty input, and the second is dead. harp-copy.wav looks well, \
               but is a \
               copy that lost its treble, with hum, a click and a dropout.",
        arguments: "inspect harp-g3.wav damaged.wav harp-copy.wav",
        figure: None,
        files: &[],
    },
    Step {
        heading: "A study: what belongs together",
        text: "A folder becomes a study with a file study.toml, which may be edited by hand.",
        arguments: "study make . --title 'Alder Hall, first day'",
        figure: None,
        files: &["study.toml"],
    },
    Step {
        heading: "The bell, cut by cut",
        text: "Many takes at once; the number of the cut is read from the file name.",
        arguments: "study add bell-cut0.wav bell-cut1.wav bell-cut2.wav bell-cut3.wav \
                    bell-cut4.wav \
                    bell-cut5.wav bell-cut6.wav --pattern bell-cut{cut}.wav --note C5 --group bell \
                    --channels rim:near",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The harp, and the copy of it",
        text: "Conditions can be given by hand, too, with their unit.",
        arguments: "study add harp-g3.wav harp-g3-other.wav harp-copy.wav --note G3 --group harp \
                    --channels bridge:near --condition 'distance=1.2 m'",
        figure: None,
        files: &[],
    },
    Step {
        heading: "Both strings at once, and a week later",
        text: "The strings plucked together, just tuned to each other and seven days after.",
        arguments: "study add harp-pair.wav harp-pair-week.wav --note G3 --group pair --channels \
                    bridge:near",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The harp, string by string",
        text: "The note expected of each take is read from its file name.",
        arguments: "study add string-*.wav --pattern string-{note}.wav --group compass --channels \
                    bridge:near",
        figure: None,
        files: &[],
    },
    Step {
        heading: "A second recorder on a seat, and two fans",
        text: "Each candidate for the ventilation was run three times: which it is, and the run, \
               are read from the name.",
        arguments: "study add fan-a-run1.wav fan-a-run2.wav fan-a-run3.wav fan-b-run1.wav \
                    fan-b-run2.wav fan-b-run3.wav \
                    --pattern fan-{candidate}-run{run}.wav --group fan --channels stage:near",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The first fan again, after a summer",
        text: "Something in it has worn.",
        arguments: "study add fan-worn.wav --group worn --channels stage:near",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The harp from the seat",
        text: "The same note as harp-g3, by another microphone and another clock.",
        arguments: "study add harp-seat.wav --note G3 --group harp --channels seat:far \
                    --condition 'distance=4 m'",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The wall of the green room, and the hall at night",
        text: "Five microphones in each room while a loudspeaker plays noise in the hall, and in \
               the green room while all is quiet; and one in the empty hall.",
        arguments: "study add wall-hall.wav wall-green.wav wall-quiet.wav --group wall \
                    --channels p1:near,p2:near,p3:near,p4:near,p5:near",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The hall's sweep, and a balloon in the green room",
        text: "A loudspeaker on the stage plays a sweep, three microphones hear it on seats 5, 9 and \
               14 m away.",
        arguments: "study add hall-sweep.wav --group hall --channels front:far,middle:far,back:far",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The hall at night",
        text: "Half a minute of what is called silence.",
        arguments: "study add hall-night.wav --group night --channels stage:near",
        figure: None,
        files: &[],
    },
    Step {
        heading: "Levels in decibels of sound pressure",
        text: "A calibrator of 94.0 dB was held to the microphone. From now on its levels are in \
               dB re 20 µPa.",
        arguments: "study calibrate near --tone calibrator.wav --level 94.0dB --frequency 1kHz",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The study at a glance",
        text: "Conditions and findings of every take.",
        arguments: "study list",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The last cut",
        text: "Takes are found by name or by condition. After the sixth cut the second partial of \
               the bell is \
               three times the first.",
        arguments: "spectrum --where cut=6 --from 0.1 --range 400Hz..3kHz --peaks 4",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The harp over time",
        text: "Plucked at 0.1 s, and still sounding at the end: on the lower panel, in decibels, \
               the decay \
               is a straight line.",
        arguments: "inspect harp-g3.wav --figure harp-wave.png",
        figure: Some("harp-wave.png"),
        files: &[],
    },
    Step {
        heading: "One period of the flute, by its zero crossings",
        text: "A span of a few periods is given its period between rising zero crossings.",
        arguments: "inspect flute-a4.wav --from 1 --to 1.01",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The damaged take, closer",
        text: "Three periods of the tone, cut off at full scale above and below. Every clipped \
               run is marked.",
        arguments: "inspect damaged.wav --from 1 --to 1.008 --figure damaged-wave.png",
        figure: Some("damaged-wave.png"),
        files: &[],
    },
    Step {
        heading: "The flute: a steady tone",
        text: "The flute holds its tone, so every partial is fitted over the whole span: the \
               frequency \
               of the first is known to a hundred-thousandth of a hertz. It stands 5 cents above \
               A4.",
        arguments: "spectrum flute-a4.wav --from 0.1 --to 2.9 --range 100Hz..6kHz --figure \
                    flute-a4.png",
        figure: Some("flute-a4.png"),
        files: &[],
    },
    Step {
        heading: "The harp: a string that dies away",
        text: "A plucked string changes all the time, so its partials are read from the averaged \
               frames, \
               and the table says so. The cents grow with the number of the partial: the string \
               is stiff.",
        arguments: "spectrum harp-g3.wav --from 0.1 --range 100Hz..8kHz --peaks 14 --figure \
                    harp-g3.png",
        figure: Some("harp-g3.png"),
        files: &[],
    },
    Step {
        heading: "The harp over time and frequency",
        text: "Each partial decays at its own rate, the high ones first. The resolution is 20 Hz; \
               what happens within \
               46 ms is blurred, so the pluck at 0.1 s is as wide as that.",
        arguments: "spectrogram harp-g3 --figure harp-spectrogram.png",
        figure: Some("harp-spectrogram.png"),
        files: &[],
    },
    Step {
        heading: "The bell before and after, over time",
        text: "Two takes on the same scales. The second partial has come down after six cuts; the \
               first has not moved.",
        arguments: "spectrogram bell-cut0 bell-cut6 --resolve 8Hz --range 400Hz..10kHz --colours \
                    lagoon \
                    --figure bells-spectrogram.png",
        figure: Some("bells-spectrogram.png"),
        files: &[],
    },
    Step {
        heading: "The bell dying away",
        text: "The same sound as a picture, cut at a time and at its second partial: the spectrum \
               half a second \
               after the stroke at the right, the level of the partial below. It beats about once \
               a second, since the bell \
               is not quite round.",
        arguments: "spectrogram bell-cut0 --range 400Hz..10kHz --slice 0.6s --slice 1593Hz \
                    --figure \
                    bell-slices.png",
        figure: Some("bell-slices.png"),
        files: &[],
    },
    Step {
        heading: "The bell, spectrum after spectrum",
        text: "The stroke at the back, the end at the front: high partials die first.",
        arguments: "spectrogram bell-cut0 --waterfall --range 400Hz..10kHz --figure \
                    bell-waterfall.png",
        figure: Some("bell-waterfall.png"),
        files: &[],
    },
    Step {
        heading: "The bell: where the phase goes on",
        text: "Its second partial close by, and below it the phase from frame to frame, less what \
               the frequency of the bin explains: 0 where the partial lies, ahead below it and \
               behind above. The level falls and rises with the beat of a pair; the phase goes on, \
               so that nothing was struck anew.",
        arguments: "spectrogram bell-cut0 --show phase --axis linear --range 1540Hz..1646Hz --to 5 \
                    --figure bell-phase.png",
        figure: Some("bell-phase.png"),
        files: &[],
    },
    Step {
        heading: "The hall after a burst",
        text: "A balloon in the empty hall. Low notes stay for two seconds, high ones for half a \
               second; the onset \
               is marked.",
        arguments: "spectrogram hall-burst.wav --time 10ms --range 40Hz..16kHz --onsets --figure \
                    hall.png",
        figure: Some("hall.png"),
        files: &[],
    },
    Step {
        heading: "The flute: where its power lies",
        text: "Half of it lies in the first partial. Between the partials is breath: its density, \
               smoothed over a \
               twelfth of an octave, and the median of the frames, which a knock would not move.",
        arguments: "spectrum flute-a4.wav --from 0.1 --to 2.9 --scaling density --average median \
                    --smooth 1/12 \
                    --peaks 5 --cumulative --figure flute-power.png",
        figure: Some("flute-power.png"),
        files: &[],
    },
    Step {
        heading: "Two strings to one note",
        text: "Both are meant to be G3. Drawn together they differ in level and in decay; in \
               pitch by next \
               to nothing, it seems.",
        arguments: "spectrum harp-g3 harp-g3-other --from 0.1 --range 150Hz..2500Hz --peaks 6 \
                    --figure \
                    harp-pair.png",
        figure: Some("harp-pair.png"),
        files: &[],
    },
    Step {
        heading: "Two strings, closer",
        text: "Within twenty cents of G3 the difference is plain: 2.5 cents, which beats every \
               three to four \
               seconds.",
        arguments: "spectrum harp-g3 harp-g3-other --from 0.1 --around G3 --cents 20 --figure \
                    harp-cents.png",
        figure: Some("harp-cents.png"),
        files: &[],
    },
    Step {
        heading: "The bell: partials that are no harmonics",
        text: "Before tuning, the second partial should be three times the first. 519.8 Hz times \
               three \
               is 1559.4 Hz; it lies at 1593.1 Hz, 37 cents too high.",
        arguments: "spectrum bell-cut0.wav --from 0.1 --axis linear --range ..9kHz --figure \
                    bell-cut0.png",
        figure: Some("bell-cut0.png"),
        files: &[],
    },
    Step {
        heading: "The bell, closer: one partial is two",
        text: "With a resolution of 0.3 Hz the lowest partial is resolved into the two it \
               consists of, \
               some 0.4 Hz apart: the bell is not quite round, and its tone swells and fades \
               every two \
               to three seconds.",
        arguments: "spectrum bell-cut0.wav --from 0.1 --resolve 0.3Hz --window hann --range \
                    515Hz..525Hz \
                    --axis linear --zero-pad 4 --figure bell-pair.png",
        figure: Some("bell-pair.png"),
        files: &[],
    },
    Step {
        heading: "One partial alone",
        text: "All but the lowest partial is removed, without a delay: now the beating can be \
               heard.",
        arguments: "filter bell-cut0.wav --keep 500Hz..540Hz --transition 20Hz --output \
                    bell-partial.wav \
                    --figure bell-partial.png",
        figure: Some("bell-partial.png"),
        files: &["bell-partial.wav"],
    },
    Step {
        heading: "Is it right? Prove it",
        text: "A tone of harmonics 2 to 5 of A2, without the first: made from a recipe, so that \
               everything \
               about it is known.",
        arguments: "signal 'harmonics frequency=A2 numbers=2,3,4,5' 'noise level=-70dB' \
                    --duration 2s --output \
                    no-first.wav",
        figure: None,
        files: &["no-first.wav"],
    },
    Step {
        heading: "The pitch is not the strongest line",
        text: "The tones lie on one harmonic series, and its fundamental is reported although \
               there is no tone at it.",
        arguments: "spectrum no-first.wav",
        figure: None,
        files: &[],
    },
    Step {
        heading: "Vibrato, as a recipe",
        text: "Eight harmonics that waver by 30 cents, 5.5 times a second.",
        arguments: "signal 'harmonics frequency=A4 partials=8 level=-15dB fade=80ms \
                    vibrato-rate=5.5Hz \
                    vibrato-depth=30' 'noise level=-70dB' --duration 3s --output vibrato.wav",
        figure: None,
        files: &["vibrato.wav"],
    },
    Step {
        heading: "Vibrato, sharpened",
        text: "What a frame spreads over time and frequency is put back where it was: each \
               partial is a line that \
               can be followed.",
        arguments: "spectrogram vibrato.wav --sharpen --range 300Hz..4kHz --figure vibrato.png",
        figure: Some("vibrato.png"),
        files: &[],
    },
    Step {
        heading: "The notes of the flute",
        text: "A scale from D4 up, over its spectrogram: each note named with its deviation in \
               cents, and with the alternatives that were rejected. The third hole is 14 cents \
               sharp. The course goes into a MIDI file as pitch bend.",
        arguments: "pitch flute-scale.wav --figure flute-scale.png --midi flute-scale.mid",
        figure: Some("flute-scale.png"),
        files: &["flute-scale.mid"],
    },
    Step {
        heading: "Why there is a note without its first partial",
        text: "The tone that was made without its fundamental: the series of 110 Hz accounts for \
               all its tones and \
               leaves none of them out; half of it would miss every other.",
        arguments: "pitch no-first.wav --evidence 1s --figure evidence.png",
        figure: Some("evidence.png"),
        files: &[],
    },
    Step {
        heading: "One line for tuning",
        text: "How far each string is from its note.",
        arguments: "pitch harp-g3 harp-g3-other --steady",
        figure: None,
        files: &[],
    },
    Step {
        heading: "A bell has no single fundamental",
        text: "It is measured all the same, and a finding says what that is worth.",
        arguments: "pitch bell-cut0 --from 0.1",
        figure: None,
        files: &[],
    },
    Step {
        heading: "What the string is made of",
        text: "Forty partials, each with its frequency, level and decay. They lie wider than \
               harmonics do, as the equation \
               of a stiff string wants it; the tracks alone make the note again to within a few \
               parts in ten million \
               of its power.",
        arguments: "partials harp-g3 --figure harp-partials.png --view decay",
        figure: Some("harp-partials.png"),
        files: &[],
    },
    Step {
        heading: "The bell: each tone is a pair",
        text: "No fundamental is assumed. Beside each tone stands its ratio to the first, how far \
               that is from the one wanted, and how fast its pair beats, although no frame could \
               resolve the two.",
        arguments: "partials bell-cut0 --free --ratios-to 1 --target 1,3 --range ..4kHz --figure \
                    bell-partials.png \
                    --view decay",
        figure: Some("bell-partials.png"),
        files: &[],
    },
    Step {
        heading: "The vibrato, partial by partial",
        text: "Each partial is followed through the vibrato, the fainter the paler.",
        arguments: "partials vibrato.wav --figure vibrato-partials.png",
        figure: Some("vibrato-partials.png"),
        files: &[],
    },
    Step {
        heading: "Is the harp in tune?",
        text: "All strings at once, against the reference pitch that fits them best. Octaves are \
               a little wide, as the stiff \
               strings want them; E4 has slipped, and D5 is a string of another gauge.",
        arguments: "tuning --where group=compass --reference fit --figure harp-tuning.png",
        figure: Some("harp-tuning.png"),
        files: &[],
    },
    Step {
        heading: "All strings in one picture",
        text: "The spectrum of each string is a column: the fundamental rises from left to right, \
               with its harmonics above it.",
        arguments: "tuning --where group=compass --view spectra --figure harp-map.png",
        figure: Some("harp-map.png"),
        files: &[],
    },
    Step {
        heading: "Do both strings sound as one?",
        text: "Plucked together after tuning, beside the first string alone. They are a third of a \
               cent apart, too little to be heard in the first partial; but the other string is of \
               another gauge, and its partials do not all come together.",
        arguments: "unison harp-pair --against harp-g3",
        figure: None,
        files: &[],
    },
    Step {
        heading: "A week later",
        text: "The other string has slipped by a cent. Each row is a partial with its decay \
               removed, and below it each dip is marked; at the right the distance of the strings, \
               which shrinks with the square of the number, as a difference of stiffness makes it. \
               The orange line is the week before.",
        arguments: "unison harp-pair-week --before harp-pair --figure harp-unison.png",
        figure: Some("harp-unison.png"),
        files: &[],
    },
    Step {
        heading: "A fifth, and how it beats",
        text: "The third partial of the lower and the second of the upper string would coincide \
               if the fifth were pure.",
        arguments: "tuning string-c4 string-g4 --interval C4..G4",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The scale of the flute, hole by hole",
        text: "Several notes in one take, against the reference pitch that fits them best: the \
               third hole is sharp.",
        arguments: "tuning flute-scale.wav --reference fit --figure flute-tuning.png",
        figure: Some("flute-tuning.png"),
        files: &[],
    },
    Step {
        heading: "The bell, cut by cut, against the ratio wanted",
        text: "The second partial should be three times the first. Each cut brings it nearer by \
               six cents; the last leaves next \
               to nothing.",
        arguments: "tuning bell-cut0 bell-cut1 bell-cut2 bell-cut3 bell-cut4 bell-cut5 bell-cut6 \
                    --free --target 1,3 \
                    --figure bell-cuts.png",
        figure: Some("bell-cuts.png"),
        files: &[],
    },
    Step {
        heading: "The timbre of the flute",
        text: "What its tone is made of, how it begins, and how much of it is breath.",
        arguments: "timbre flute-a4.wav --figure flute-harmonics.png --view harmonics",
        figure: Some("flute-harmonics.png"),
        files: &[],
    },
    Step {
        heading: "The timbre of the harp over time",
        text: "The string grows duller as it decays: its high partials go first.",
        arguments: "timbre harp-g3 --figure harp-timbre.png",
        figure: Some("harp-timbre.png"),
        files: &[],
    },
    Step {
        heading: "From the stage to the seat",
        text: "One note, two recorders. They are aligned to a thousandth of a sample; the clock \
               on the seat runs 12 ppm \
               fast, the sound is 11 dB quieter, and duller by as much as the bands say. Above 8 \
               kHz there is only noise, and no \
               difference is given.",
        arguments: "compare harp-g3 harp-seat --figure harp-seat.png",
        figure: Some("harp-seat.png"),
        files: &[],
    },
    Step {
        heading: "From the stage to the seat, over time",
        text: "The same two, and their difference beside the gain: white where the string sounds, \
               blue where the seat hears it duller, and \
               orange the noise, of which the seat has as much for less sound.",
        arguments: "compare harp-g3 harp-seat --match-gain --quiet --view spectrograms --figure \
                    harp-seat-maps.png",
        figure: Some("harp-seat-maps.png"),
        files: &[],
    },
    Step {
        heading: "The bell before and after",
        text: "Two strokes are not recordings of one sound: they are compared by their long-term \
               averages, partial by partial. The third partial \
               of the table is the one that was lowered.",
        arguments: "compare bell-cut0 bell-cut6 --to 4 --figure bell-before-after.png",
        figure: Some("bell-before-after.png"),
        files: &[],
    },
    Step {
        heading: "Which fan is quieter, and is the difference significant?",
        text: "Three runs of each. What differs by more than the runs of one fan is significant: \
               the second is 4 dB quieter, and its blades 12 dB.",
        arguments: "compare fan-a-run1+fan-a-run2+fan-a-run3 fan-b-run1+fan-b-run2+fan-b-run3",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The two fans, band by band",
        text: "One run of each, with what chance explains.",
        arguments: "compare fan-a-run1 fan-b-run1 --quiet --figure fans.png",
        figure: Some("fans.png"),
        files: &[],
    },
    Step {
        heading: "How quiet is the hall?",
        text: "Third-octave levels of the empty hall, the weighted levels and their statistics; \
               the octaves give its noise rating.",
        arguments: "bands hall-night --figure hall-night.png",
        figure: Some("hall-night.png"),
        files: &[],
    },
    Step {
        heading: "Both fans beside the quiet hall, in octaves",
        text: "Weighted levels and octaves of several takes in one table and one figure.",
        arguments: "bands fan-a-run1 fan-b-run1 hall-night --fraction 1 --quiet --figure \
                    fan-bands.png",
        figure: Some("fan-bands.png"),
        files: &[],
    },
    Step {
        heading: "How much louder is the first fan, and which bands should be quietened first?",
        text: "Loudness in sone: along the ear, over time, and both as colour on the same scale. The \
               bands that weigh most are those that would save most if they had the level that they \
               have in the other fan.",
        arguments: "loudness fan-a-run1 fan-b-run1 --figure fan-loudness.png",
        figure: Some("fan-loudness.png"),
        files: &[],
    },
    Step {
        heading: "After a summer: hardly more decibels, but louder",
        text: "The worn fan has nearly the level of the new one. It throbs, and what it reaches for \
               a twentieth of the time is what is remembered.",
        arguments: "loudness fan-a-run1 fan-worn --to 4 --quiet --figure fan-worn-loudness.png",
        figure: Some("fan-worn-loudness.png"),
        files: &[],
    },
    Step {
        heading: "From the stage to the seat",
        text: "The harp is the source: how much later its sound arrives, how much weaker, and at \
               which frequencies. Where the note has no partial there is nothing to be known, and \
               the figure stays blank.",
        arguments: "transfer harp-g3 harp-seat --figure harp-transfer.png",
        figure: Some("harp-transfer.png"),
        files: &[],
    },
    Step {
        heading: "How long does the hall reverberate?",
        text: "The response of each seat comes from the sweep; the distortion of the loudspeaker \
               is separated from it. The mean of three seats with their spread, and how clear music is.",
        arguments: "room hall-sweep --channel all --sweep 'from=30Hz to=20kHz length=6s fade=10ms' \
                    --figure hall-room.png",
        figure: Some("hall-room.png"),
        files: &[],
    },
    Step {
        heading: "A flute without its even partials",
        text: "Made again from its partials and its breath, but for partials 2, 4 and 6: it sounds \
               hollow.",
        arguments: "rebuild flute-a4.wav --remove even --output flute-hollow.wav --figure \
                    flute-hollow.png",
        figure: Some("flute-hollow.png"),
        files: &["flute-hollow.wav"],
    },
    Step {
        heading: "The harp as a bell",
        text: "The partials are stretched, and die away more slowly: a string becomes a bell.",
        arguments: "rebuild harp-g3 --stretch 0.08 --decay 1.5 --output harp-bell.wav",
        figure: None,
        files: &["harp-bell.wav"],
    },
    Step {
        heading: "Half the speed, at the same pitch",
        text: "The attack is that of the string, twice as long.",
        arguments: "rebuild harp-g3 --time 2 --output harp-slow.wav",
        figure: None,
        files: &["harp-slow.wav"],
    },
    Step {
        heading: "The chord of the bell",
        text: "What the bell sounds like as notes: in quarter tones, with the cents left beside its \
               spectrum, and as a score.",
        arguments: "notate bell-cut0 --chord-at 0.5s --steps quarter --output bell-chord.musicxml \
                    --figure bell-chord.png",
        figure: Some("bell-chord.png"),
        files: &["bell-chord.musicxml"],
    },
    Step {
        heading: "The scale as a score",
        text: "In bars of 4/4: a note is played every 0.58 s, a quarter at 103 a minute. The figure shows \
               the vibrato that notation leaves out.",
        arguments: "notate flute-scale.wav --tempo 103 --smallest 1/8 --output flute-scale.musicxml --figure \
                    flute-staves.png",
        figure: Some("flute-staves.png"),
        files: &["flute-scale.musicxml"],
    },
    Step {
        heading: "And the green room?",
        text: "A balloon, in thirds of an octave: what the rating of its wall asks for.",
        arguments: "room green-burst.wav --fraction 3 --range 50Hz..5kHz --format json --output \
                    green-room.json",
        figure: None,
        files: &["green-room.json"],
    },
    Step {
        heading: "A fairground organ passes outside",
        text: "How fast is the wagon, and how near does it come? All pipes shift by the same factor, \
               and how it changes says both.",
        arguments: "passby wagon.wav --figure wagon.png",
        figure: Some("wagon.png"),
        files: &[],
    },
    Step {
        heading: "What the wall of the green room keeps back",
        text: "The energy means of five positions in each room, the background subtracted, and \
               with the green room's reverberation times, its volume and the area of the wall the \
               apparent sound reduction index with its single number.",
        arguments: "isolation --source wall-hall --receiver wall-green --background wall-quiet \
                    --decay green-room.json --volume 32m3 --area 11m2 --figure wall.png",
        figure: Some("wall.png"),
        files: &[],
    },
    Step {
        heading: "The first fan after a summer: what throbs?",
        text: "Its belt slips, and one blade is bent: the spectrum shows noise, the ear hears it \
               throb. The envelope has both rates, and how deep they are; calibrated, how strongly \
               that is heard.",
        arguments: "modulation fan-worn --figure fan-worn.png",
        figure: Some("fan-worn.png"),
        files: &[],
    },
    Step {
        heading: "The same before the summer",
        text: "Nothing slower than 100 Hz is modulated, and it is not rough: a limit that is met.",
        arguments: "modulation fan-a-run1 --rates 0.5Hz..100Hz --require 'roughness_asper<0.5'",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The bell that is not quite round",
        text: "Its second partial is two tones close to each other: how fast they beat, and which \
               they are.",
        arguments: "modulation bell-cut0 --range 1550Hz..1640Hz --from 0.3",
        figure: None,
        files: &[],
    },
    Step {
        heading: "How far each cut lowers the partial",
        text: "A quantity over a condition: a straight line, and each step by itself. A bell has \
               no \
               fundamental: its partials are followed without one.",
        arguments: "trend --quantity partials[2].frequency_hz --over cut --with --free --figure \
                    bell-trend.png",
        figure: Some("bell-trend.png"),
        files: &[],
    },
    Step {
        heading: "Many takes at once",
        text: "Three strings of the harp, plucked two dozen times each: every take is measured into \
               one database, which grows with the folder.",
        arguments: "survey plucks --measure 'pitch, timbre, inspect' --names \
                    '{string}-{pluck}.wav' --into plucks.sqlite",
        figure: None,
        files: &["plucks.sqlite"],
    },
    Step {
        heading: "Which of them stands out?",
        text: "Within its string each take is compared with the others: one string had slipped, \
               and one take is a copy of another, turned down.",
        arguments: "survey show plucks.sqlite --by string --figure plucks.png",
        figure: Some("plucks.png"),
        files: &[],
    },
    Step {
        heading: "A result that is kept",
        text: "With all it takes to make it again.",
        arguments: "partials harp-g3 --format json --output harp-g3.json --quiet",
        figure: None,
        files: &["harp-g3.json"],
    },
    Step {
        heading: "Is it still the same?",
        text: "The take, and every number of the result, to the byte.",
        arguments: "again harp-g3.json",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The damaged take: the result says so",
        text: "Clipping makes harmonics that the flute never played. The numbers are still given, \
               with \
               what they suffer from beside them, on the figure too.",
        arguments: "spectrum damaged.wav --range 100Hz..20kHz --figure damaged.svg",
        figure: Some("damaged.svg"),
        files: &[],
    },
    Step {
        heading: "For programs",
        text: "The same result as JSON, with the hash of the file and all settings, and the curve \
               as CSV.",
        arguments: "spectrum flute-a4.wav --from 0.1 --to 2.9 --peaks 1 --format json",
        figure: None,
        files: &[],
    },
    Step {
        heading: "The curve as a table",
        text: "For a spreadsheet or a plot of your own.",
        arguments: "spectrum flute-a4.wav --range 100Hz..6kHz --curve --format csv --output \
                    flute-a4.csv",
        figure: None,
        files: &["flute-a4.csv"],
    },
    Step {
        heading: "To hand on: the whole study on one page",
        text: "Results first, then findings, the takes at a glance, comparisons, trends and other \
               measurements, every take with what it calls for; charts to zoom and read. It needs \
               no network. A short form for mail stands beside it.",
        arguments: "report --pair 'harp-g3 harp-seat' --pair 'bell-cut0@..4 bell-cut6' --pair \
                    'fan-a-run1+fan-a-run2+fan-a-run3 fan-b-run1+fan-b-run2+fan-b-run3' --pair \
                    'fan-a-run1 fan-b-run1' --trend \
                    'partials[3].frequency_hz over cut' --trend 'timbre.centroid_hz over cut' \
                    --with 'unison harp-pair' --with 'modulation \
                    fan-worn' --with 'room hall-sweep --channel front --sweep \"from=30Hz to=20kHz \
                    length=6s fade=10ms\"' --with 'isolation --source wall-hall --receiver \
                    wall-green --background wall-quiet --decay green-room.json --volume 32m3 \
                    --area 11m2' --with 'transfer harp-g3 harp-seat' --with 'tuning --where \
                    group=compass' --with 'loudness fan-a-run1 fan-b-run1' --with 'passby wagon.wav' --summary report.md",
        figure: None,
        files: &["report.html", "report.md"],
    },
];
