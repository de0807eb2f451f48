// One SHA-256 compression over LANES independent streams at once (FIPS 180-4,
// section 6.2.2): lane l of each vector belongs to stream l. The includer defines
// LANES, NAME and TARGET.

#define VECTOR CAT(words, LANES)
typedef uint32_t VECTOR __attribute__((vector_size(4 * LANES)));

__attribute__((target(TARGET), optimize("O3")))
void NAME(uint32_t *state, const uint8_t **data, long blocks) {
	VECTOR s[8];
	memcpy(s, state, sizeof s);
	for (long block = 0; block < blocks; block++) {
		VECTOR w[16];
		uint32_t words[16][LANES];
		for (int l = 0; l < LANES; l++)
			for (int i = 0; i < 16; i++) {
				uint32_t word;
				memcpy(&word, data[l] + 64 * block + 4 * i, 4);
				words[i][l] = __builtin_bswap32(word);
			}
		memcpy(w, words, sizeof w);
		VECTOR a = s[0], b = s[1], c = s[2], d = s[3], e = s[4], f = s[5], g = s[6], h = s[7];
		for (int i = 0; i < 64; i += 16) {
#pragma GCC unroll 16
			for (int j = 0; j < 16; j++) {
				if (i > 0) {
					VECTOR x = w[(j + 1) & 15], y = w[(j + 14) & 15];
					w[j] += (ROTATE(x, 7) ^ ROTATE(x, 18) ^ (x >> 3)) + w[(j + 9) & 15] + (ROTATE(y, 17) ^ ROTATE(y, 19) ^ (y >> 10));
				}
				VECTOR t1 = h + (ROTATE(e, 6) ^ ROTATE(e, 11) ^ ROTATE(e, 25)) + ((e & f) ^ (~e & g)) + constants[i + j] + w[j];
				VECTOR t2 = (ROTATE(a, 2) ^ ROTATE(a, 13) ^ ROTATE(a, 22)) + ((a & b) ^ (a & c) ^ (b & c));
				h = g, g = f, f = e, e = d + t1, d = c, c = b, b = a, a = t1 + t2;
			}
		}
		s[0] += a, s[1] += b, s[2] += c, s[3] += d, s[4] += e, s[5] += f, s[6] += g, s[7] += h;
	}
	memcpy(state, s, sizeof s);
}

#undef VECTOR
#undef LANES
#undef NAME
#undef TARGET
