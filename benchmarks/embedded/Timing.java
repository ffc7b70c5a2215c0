import java.nio.charset.StandardCharsets;
import java.util.Map;
import login.KioskLogin;
import org.bouncycastle.crypto.generators.Argon2BytesGenerator;
import org.bouncycastle.crypto.params.Argon2Parameters;

/** Prints how many seconds so many logins took, and as many runs of the bare primitive, by turns. */
public final class Timing {
    private static void bare() {
        Argon2BytesGenerator generator = new Argon2BytesGenerator();
        generator.init(new Argon2Parameters.Builder(Argon2Parameters.ARGON2_id)
                .withMemoryAsKB(19456)
                .withIterations(2)
                .withParallelism(1)
                .withSalt(new byte[16])
                .build());
        generator.generateBytes("Gull 4711".getBytes(StandardCharsets.UTF_8), new byte[32]);
    }

    public static void main(String[] arguments) {
        byte[] value = arguments[0].getBytes(StandardCharsets.UTF_8);
        KioskLogin login = new KioskLogin(Map.of());
        KioskLogin.Row row = new KioskLogin.Row(value, null, null, null, Map.of());
        int logins = Integer.parseInt(arguments[1]);
        double own = 0;
        double bare = 0;
        for (int number = -logins; number < logins; number++) { // the first half warms the compiler up
            long start = System.nanoTime();
            login.check(row, "Gull 4711");
            long middle = System.nanoTime();
            bare();
            if (number >= 0) {
                own += (middle - start) / 1e9;
                bare += (System.nanoTime() - middle) / 1e9;
            }
        }
        System.out.println("[" + own + ", " + bare + "]");
    }
}
