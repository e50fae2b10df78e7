// The rules of Tinderwick Lane: lanterns stand at places of a grid, and turning one (lit becomes dark,
// dark becomes lit) turns those beside it, above and below too. All lit: the night is done.
// Built into rules.wasm by rules.sh; it imports nothing.

typedef unsigned int u32;
typedef unsigned long long u64;

#define EXPORT(name) __attribute__((export_name(#name)))
enum { MOST = 48 }; // places of the largest grid

static int width, height;
static u64 lanterns; // a bit for each place that has one
static u64 lit;
static u64 reach[MOST]; // what turning a lantern turns
static u64 chance;      // state of the random numbers

static u64 bit(int place) { return 1ull << place; }

static int bits(u64 v) {
	int n = 0;
	for (; v; v &= v - 1) n++;
	return n;
}

// lay makes a lane of w by h places, with lanterns where the bits of high and low are set; all are lit.
// It returns how many there are, or -1 when the grid is too large.
EXPORT(lay) int lay(int w, int h, u32 high, u32 low) {
	if (w < 1 || h < 1 || w * h > MOST) return -1;
	width = w, height = h;
	lanterns = ((u64)high << 32 | low) & (bit(w * h) - 1);
	for (int y = 0; y < h; y++)
		for (int x = 0; x < w; x++) {
			u64 r = bit(y * w + x);
			if (x > 0) r |= bit(y * w + x - 1);
			if (x < w - 1) r |= bit(y * w + x + 1);
			if (y > 0) r |= bit((y - 1) * w + x);
			if (y < h - 1) r |= bit((y + 1) * w + x);
			reach[y * w + x] = r & lanterns;
		}
	lit = lanterns;
	return bits(lanterns);
}

// turn turns the lantern at a place; 0 when there is none.
EXPORT(turn) int turn(int place) {
	if (place < 0 || place >= width * height || !(lanterns & bit(place))) return 0;
	lit ^= reach[place];
	return 1;
}

EXPORT(is_lit) int is_lit(int place) { return lit >> place & 1; }
EXPORT(solved) int solved(void) { return lanterns && lit == lanterns; }

// shortest finds the fewest turns that light every lantern, as a set of places; ~0 when there are none.
// Turning twice is not turning, so this is a system of linear equations over two numbers: an equation a
// lantern, solved by elimination. What is free is tried in every combination.
static u64 shortest(void) {
	u64 left[MOST], rows = 0;
	int right[MOST], pivot_of[MOST], free_of[MOST], count = 0, free_count = 0;
	for (int p = 0; p < width * height; p++)
		if (lanterns & bit(p)) left[count] = reach[p], right[count] = !(lit >> p & 1), count++;
	for (int p = 0; p < width * height; p++) {
		if (!(lanterns & bit(p))) continue;
		int r = (int)rows;
		while (r < count && !(left[r] & bit(p))) r++;
		if (r == count) {
			free_of[free_count++] = p;
			continue;
		}
		u64 l = left[r];
		int v = right[r];
		left[r] = left[rows], right[r] = right[rows];
		left[rows] = l, right[rows] = v;
		for (r = 0; r < count; r++)
			if (r != (int)rows && left[r] & bit(p)) left[r] ^= l, right[r] ^= v;
		pivot_of[rows++] = p;
	}
	for (int r = (int)rows; r < count; r++)
		if (right[r]) return ~0ull;
	u64 best = ~0ull;
	for (u32 choice = 0; choice < 1u << free_count; choice++) {
		u64 set = 0;
		for (int i = 0; i < free_count; i++)
			if (choice >> i & 1) set |= bit(free_of[i]);
		u64 whole = set;
		for (int r = 0; r < (int)rows; r++)
			if ((bits(left[r] & set) & 1) != right[r]) whole |= bit(pivot_of[r]);
		if (best == ~0ull || bits(whole) < bits(best)) best = whole;
	}
	return best;
}

// fewest is how many turns are needed from here; -1 when no turns light every lantern.
EXPORT(fewest) int fewest(void) {
	u64 s = shortest();
	return s == ~0ull ? -1 : bits(s);
}

// hint is a lantern of a shortest way from here; -1 when there is none.
EXPORT(hint) int hint(void) {
	u64 s = shortest();
	if (s == ~0ull || !s) return -1;
	int place = 0;
	while (!(s & bit(place))) place++;
	return place;
}

static u32 next(void) {
	chance = chance * 6364136223846793005ull + 1442695040888963407ull;
	return (u32)(chance >> 33);
}

// make makes a night from a seed that can be solved in exactly that many turns, or as near to it as a few
// hundred tries come, and returns how many it takes.
EXPORT(make) int make(u32 seed, int turns) {
	u64 nearest = lanterns;
	int distance = 1000, needed = 0;
	chance = seed;
	for (int attempt = 0; attempt < 300 && distance; attempt++) {
		lit = lanterns;
		u64 chosen = 0;
		for (int guard = 0; bits(chosen) < turns && guard < 4000; guard++) {
			int p = (int)(next() % (u32)(width * height));
			if (lanterns & bit(p) & ~chosen) chosen |= bit(p), turn(p);
		}
		int n = fewest(), off = n > turns ? n - turns : turns - n;
		if (n > 0 && off < distance) distance = off, nearest = lit, needed = n;
	}
	lit = nearest;
	return needed;
}

// The compiler may turn loops into these.
void *memset(void *to, int value, unsigned long n) {
	for (unsigned char *p = to; n--;) *p++ = (unsigned char)value;
	return to;
}
void *memcpy(void *to, const void *from, unsigned long n) {
	unsigned char *t = to;
	for (const unsigned char *f = from; n--;) *t++ = *f++;
	return to;
}
