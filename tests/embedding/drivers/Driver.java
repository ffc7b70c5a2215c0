import com.google.gson.Gson;
import com.google.gson.JsonElement;
import com.google.gson.JsonObject;
import com.google.gson.JsonParser;
import java.io.BufferedReader;
import java.io.IOException;
import java.io.InputStreamReader;
import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.util.Base64;
import java.util.HashMap;
import java.util.HexFormat;
import java.util.LinkedHashMap;
import java.util.Map;
import login.KioskLogin;

/** Asks a written check, a question a line, and prints its answers: Driver KEYS. */
public final class Driver {
    private static byte[] raw(JsonElement given) {
        return given.isJsonNull() ? null : Base64.getDecoder().decode(given.getAsString());
    }

    private static String text(JsonElement given) {
        return given.isJsonNull() ? null : given.getAsString();
    }

    private static Map<String, Object> answered(KioskLogin login, JsonObject asked) throws IOException {
        Map<String, Object> told = new LinkedHashMap<>();
        String password = new String(raw(asked.get("password")), StandardCharsets.UTF_8);
        String name = text(asked.get("login"));
        String account = text(asked.get("account"));
        try {
            if (asked.has("new")) {
                told.put("value", login.newValue(password, name, account));
                return told;
            }
            Map<String, byte[]> columns = new HashMap<>();
            for (Map.Entry<String, JsonElement> each : asked.getAsJsonObject("columns").entrySet()) {
                columns.put(each.getKey(), raw(each.getValue()));
            }
            KioskLogin.Answer answer = login.check(new KioskLogin.Row(
                    raw(asked.get("stored")), raw(asked.get("salt")), name, account, columns), password);
            if (asked.has("file")) {
                JsonElement given = asked.get("expected");
                Boolean expected = given.isJsonNull() ? null : (Boolean) given.getAsBoolean();
                byte[] key = asked.get("key").getAsString().getBytes(StandardCharsets.UTF_8);
                login.count(Path.of(asked.get("file").getAsString()), key, name, answer, expected);
            }
            told.put("admitted", answer.admitted());
            told.put("new_value", answer.newValue());
            told.put("refusal", answer.refusal());
            told.put("kept", answer.kept());
            told.put("cohort", answer.cohort());
            told.put("identity", answer.identity());
        } catch (KioskLogin.CheckImpossible error) {
            told.put("error", error.getMessage());
        } catch (KioskLogin.PasswordRefused error) {
            told.put("reasons", error.getMessage());
        }
        return told;
    }

    public static void main(String[] arguments) throws Exception {
        Map<String, byte[]> keys = new HashMap<>();
        for (Map.Entry<String, JsonElement> each :
                JsonParser.parseString(arguments[0]).getAsJsonObject().entrySet()) {
            keys.put(each.getKey(), HexFormat.of().parseHex(each.getValue().getAsString()));
        }
        KioskLogin login = new KioskLogin(keys);
        Gson gson = new Gson().newBuilder().serializeNulls().create();
        BufferedReader lines =
                new BufferedReader(new InputStreamReader(System.in, StandardCharsets.UTF_8));
        for (String line = lines.readLine(); line != null; line = lines.readLine()) {
            String told = gson.toJson(answered(login, JsonParser.parseString(line).getAsJsonObject()));
            System.out.write((told + "\n").getBytes(StandardCharsets.UTF_8));
        }
        System.out.flush();
    }
}
