/* almanac IN OUT YEAR: reads a year of tide tables, IN/YEAR-01.txt and on, and writes a page for each month into the new
   folder OUT: the highest water of every day. It needs no library, so that it runs in an image that holds nothing else. */

#if defined(__x86_64__)
enum { openat = 257, mkdirat = 258, read = 0, write = 1, close = 3, leave = 60 };
static long call(long n, long a, long b, long c, long d)
{
	long r;
	register long r10 __asm__("r10") = d;
	__asm__ volatile("syscall" : "=a"(r) : "a"(n), "D"(a), "S"(b), "d"(c), "r"(r10) : "rcx", "r11", "memory");
	return r;
}
__asm__(".globl _start\n_start: mov %rsp, %rdi\n and $-16, %rsp\n call begin\n");
#elif defined(__aarch64__)
enum { openat = 56, mkdirat = 34, read = 63, write = 64, close = 57, leave = 93 };
static long call(long n, long a, long b, long c, long d)
{
	register long x8 __asm__("x8") = n, x0 __asm__("x0") = a, x1 __asm__("x1") = b, x2 __asm__("x2") = c, x3 __asm__("x3") = d;
	__asm__ volatile("svc 0" : "+r"(x0) : "r"(x8), "r"(x1), "r"(x2), "r"(x3) : "memory");
	return x0;
}
__asm__(".globl _start\n_start: mov x0, sp\n bl begin\n");
#endif

enum { here = -100, write_new = 01 | 0100 | 01000 };

static char input[64 << 10], page[16 << 10], name[512];

static long length(const char *s)
{
	long n = 0;
	while (s[n])
		n++;
	return n;
}

static char *append(char *to, const char *from, long n)
{
	for (long i = 0; i < n; i++)
		*to++ = from[i];
	return to;
}

static char *text(char *to, const char *from) { return append(to, from, length(from)); }

static void stop(const char *what)
{
	char *end = text(text(text(page, "almanac: "), what), "\n");
	call(write, 2, (long)page, end - page, 0);
	call(leave, 1, 0, 0, 0);
}

static void path(const char *folder, const char *year, int month, const char *ending)
{
	if (length(folder) + length(year) > 400)
		stop("a name is too long");
	char *end = text(text(text(text(name, folder), "/"), year), "-");
	*end++ = '0' + month / 10;
	*end++ = '0' + month % 10;
	*text(end, ending) = 0;
}

/* A line is: 2027-01-01 00:00 2.53. The highest of a day is the first of those whose digits are highest. */
static char *days(char *to, const char *at, const char *end)
{
	while (at < end) {
		const char *best = at, *day = at;
		for (; at < end && at[8] == day[8] && at[9] == day[9]; at += 22) {
			if (at + 22 > end || at[16] != ' ' || at[21] != '\n')
				stop("a table has a line of another form");
			for (int i = 17; i < 21; i++) {
				if (at[i] == best[i])
					continue;
				if (at[i] > best[i])
					best = at;
				break;
			}
		}
		to = append(text(to, "<tr><td>"), best + 8, 2);
		to = append(text(to, "<td>"), best + 11, 5);
		to = append(text(to, "<td>"), best + 17, 4);
		to = text(to, " m\n");
	}
	return to;
}

__attribute__((used)) void begin(long *stack)
{
	char **args = (char **)(stack + 1);
	if (stack[0] != 4)
		stop("usage: almanac IN OUT YEAR");
	call(mkdirat, here, (long)args[2], 0755, 0);
	for (int month = 1; month <= 12; month++) {
		path(args[1], args[3], month, ".txt");
		long in = call(openat, here, (long)name, 0, 0), n = 0, got;
		if (in < 0)
			stop(name);
		while ((got = call(read, in, (long)(input + n), sizeof input - n, 0)) > 0)
			n += got;
		call(close, in, 0, 0, 0);
		char *end = text(page, "<!doctype html>\n<title>High water</title>\n<link rel=\"stylesheet\" href=\"/pages/tideline.css\">\n<h1>High water, ");
		end = append(end, input, 7);
		end = days(text(end, "</h1>\n<table>\n<tr><th>day<th>time<th>level\n"), input, input + n);
		end = text(end, "</table>\n");
		path(args[2], args[3], month, ".html");
		long out = call(openat, here, (long)name, write_new, 0644);
		if (out < 0 || call(write, out, (long)page, end - page, 0) != end - page)
			stop(name);
		call(close, out, 0, 0, 0);
	}
	static const char done[] = "almanac: 12 pages\n";
	call(write, 1, (long)done, sizeof done - 1, 0);
	call(leave, 0, 0, 0, 0);
}
