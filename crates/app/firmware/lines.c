/* Knobs and buttons as lines of numbers, for a `lines` link of Wasvolta.
   Write read_converter and write_byte for your microcontroller; the rest is ready.
   Set its line to 115200 baud, 8 bits, no parity, or tell the rig which baud it has. */

#define KNOBS 2    /* converter inputs 0, 1, ... */
#define BUTTONS 1  /* the inputs after them, pulled up, to ground when pressed */
#define MIDDLE 512 /* counts; a button that reads less is pressed */

/* What the converter reads at an input, in counts from 0. */
int read_converter(int input);

/* Waits until there is room, then sends one byte. It sets the pace of the lines. */
void write_byte(char byte);

static void write_number(int number) {
    if (number >= 10) write_number(number / 10);
    write_byte((char)('0' + number % 10));
}

static void write_field(const char *name, int place, int value) {
    while (*name) write_byte(*name++);
    write_number(place);
    write_byte('=');
    write_number(value);
}

/* One line: knob1=512 knob2=3 button1=0 */
static void write_line(void) {
    for (int input = 0; input < KNOBS + BUTTONS; input++) {
        int counts = read_converter(input);
        if (input > 0) write_byte(' ');
        if (input < KNOBS) write_field("knob", input + 1, counts);
        else write_field("button", input - KNOBS + 1, counts < MIDDLE);
    }
    write_byte('\n');
}

int main(void) {
    for (;;) write_line();
}
